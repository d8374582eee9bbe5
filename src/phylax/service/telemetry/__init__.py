"""Metrics and logs for other systems."""
