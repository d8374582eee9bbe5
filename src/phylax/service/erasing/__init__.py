"""Clients are forgotten."""
