"""The shop's one SQLite file: its connections, what lies in each table, whole archives of it."""
