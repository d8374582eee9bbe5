"""HTTP to a service: sync and async, its errors, an agent's own connection."""
