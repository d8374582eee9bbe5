"""Seals of the record that were made."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.values import from_seconds
from phylax.core.record.seals import Seal


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


class KeptKey(NamedTuple):
    """A key by which the record was sealed."""

    public_key: bytes
    since: int
    handed_over: bytes | None
    """Signed by the key before; None: the first, or the one before was lost."""


def keys(conn: Connection) -> list[KeptKey]:
    """The newest last."""
    rows = conn.execute("SELECT public_key, since, handed_over FROM seal_keys ORDER BY id")
    return [KeptKey(*row) for row in rows]


def add_key(conn: Connection, public_key: bytes, handed_over: bytes | None, *, at: int) -> None:
    conn.execute(
        """
        INSERT INTO seal_keys (public_key, since, handed_over) VALUES (?, ?, ?)
        """,
        (public_key, at, handed_over),
    )
