"""The maintenance record and the audit: appended, never changed."""
