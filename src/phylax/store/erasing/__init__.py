"""A client's words taken out of the shop's file, for good, while the shop works.

Each step is done in slices, so that no write waits long; each may be cut off anywhere and begun
anew: it goes on with what is left.
"""
