"""Backups while the service runs, and restoring one while it does not."""
