"""The made-up shop: everything in it is invented."""
