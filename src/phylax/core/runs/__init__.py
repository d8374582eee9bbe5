"""Runs: one machine carrying out its work once, and how it ended."""
