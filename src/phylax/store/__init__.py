"""The records on disk: one SQLite file, plain SQL, one module for each family of records.

Functions take an open connection and speak in core's types; `Database` owns the connections.
"""
