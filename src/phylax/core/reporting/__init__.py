"""The report for a client: what was done to their machines, put together in their words."""
