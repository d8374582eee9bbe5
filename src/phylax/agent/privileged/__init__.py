"""Work that needs more rights than cleaning does, each kind in a short-lived unit of its own."""
