"""The shop's people: how they sign in, what they keep, and that somebody leaves."""
