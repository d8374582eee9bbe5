"""Phylax: recurring cleanup and upkeep of client computers, for a repair shop."""

__version__ = "0.1.0"
