"""Who did what, with what was there before and after."""

from __future__ import annotations

import sqlite3

from phylax.core.people import Audited
from phylax.core.values import from_seconds

Connection = sqlite3.Connection


def record(
    conn: Connection,
    *,
    who: str,
    at: int,
    deed: str,
    subject: str,
    before: str | None = None,
    after: str | None = None,
) -> None:
    conn.execute(
        "INSERT INTO audit (at, who, deed, subject, before, after) VALUES (?, ?, ?, ?, ?, ?)",
        (at, who, deed, subject, before, after),
    )


def listed(conn: Connection, *, before: int, limit: int) -> list[Audited]:
    """Deeds, newest first, before a number."""
    rows = conn.execute(
        "SELECT * FROM audit WHERE id < ? ORDER BY id DESC LIMIT ?", (before, limit)
    )
    return [
        Audited.model_validate(
            {name: row[name] for name in Audited.model_fields} | {"at": from_seconds(row["at"])}
        )
        for row in rows
    ]
