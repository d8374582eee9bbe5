"""Visits, what they wait for, and advice."""
