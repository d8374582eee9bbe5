"""Backups: the plan, whole copies, and which epoch of the records this is."""
