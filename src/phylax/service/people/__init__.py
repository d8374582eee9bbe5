"""The shop's people."""
