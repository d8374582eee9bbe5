"""Rounds: planning them, and the scheduler that makes their runs."""
