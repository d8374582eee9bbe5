"""Settings and startup programs: what was read, decided and changed."""
