"""Reports for clients."""
