"""Rules, protect lists and consents of each scope."""
