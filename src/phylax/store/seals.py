"""Seals of the record that were made."""

from __future__ import annotations

import sqlite3

from phylax.core.seals import Seal
from phylax.core.values import from_seconds

Connection = sqlite3.Connection


def add(conn: Connection, note: str, count: int, *, at: int) -> Seal:
    cursor = conn.execute("INSERT INTO seals (at, count, note) VALUES (?, ?, ?)", (at, count, note))
    number = int(cursor.lastrowid or 0)
    return Seal(id=number, at=from_seconds(at), count=count, note=note)


def listed(conn: Connection, *, most: int) -> list[Seal]:
    """The newest first."""
    rows = conn.execute("SELECT * FROM seals ORDER BY id DESC LIMIT ?", (most,))
    return [
        Seal(id=row["id"], at=from_seconds(row["at"]), count=row["count"], note=row["note"])
        for row in rows
    ]
