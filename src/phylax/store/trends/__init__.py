"""Readings of volumes, and what follows from them."""
