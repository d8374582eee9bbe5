"""Settings and startup programs."""
