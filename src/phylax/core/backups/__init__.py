"""Backups of the shop's file, and the epochs of its records."""
