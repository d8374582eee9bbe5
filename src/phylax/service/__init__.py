"""The shop's service: HTTP over the store, the scheduler, and the console's files."""
