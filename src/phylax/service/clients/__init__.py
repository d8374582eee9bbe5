"""Clients and machines taken in from lists and given up."""
