"""Runs and occurrences of rounds: made once, leased, ended once."""
