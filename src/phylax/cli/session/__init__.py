"""Asking a service: as whom, for what, and following what comes of it."""
