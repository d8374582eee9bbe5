"""Work that needs more rights than cleaning does, each kind in a short-lived system unit of its own."""
