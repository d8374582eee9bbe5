"""Secrets in the file that must be read again, as they are kept."""

from __future__ import annotations

from collections.abc import Callable
from sqlite3 import Connection

_COLUMNS = (("hooks", "secret"), ("people", "codes_secret"))


def change_all(conn: Connection, changed: Callable[[str], str]) -> int:
    """Keep each as `changed` makes of it; how many were altered."""
    altered = 0
    for table, column in _COLUMNS:
        rows = conn.execute(
            f"SELECT id, {column} FROM {table} WHERE coalesce({column}, '') <> ''"
        ).fetchall()
        for number, kept in rows:
            if (wanted := changed(kept)) != kept:
                conn.execute(f"UPDATE {table} SET {column} = ? WHERE id = ?", (wanted, number))
                altered += 1
    return altered
