"""Forgetting a client: what it means, and the words that are looked for."""
