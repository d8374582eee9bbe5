"""Checks of machines: what there is to check, what came of it, how long it still takes."""
