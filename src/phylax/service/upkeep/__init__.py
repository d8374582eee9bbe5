"""Long work on machines: what is asked for, what machines tell of it, what follows from it."""
