"""The agent's folder: what it is enrolled as, and what the machine's administrator forbids."""
