"""The account of a run: its journal on disk, and what became of everything."""
