"""Calendar feeds and the hashes of their addresses."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.scheduling.calendars import Feed, FeedEdit

_READ_TO_WITHIN = 300

_FEED = """
    SELECT f.*, coalesce(p.name, c.name, '') AS subject_name FROM calendars f
    LEFT JOIN people p ON f.about = 'person' AND p.id = f.subject_id
    LEFT JOIN clients c ON f.about = 'client' AND c.id = f.subject_id
"""


def _feed(row: sqlite3.Row) -> Feed:
    return Feed(
        id=row["id"],
        name=row["name"],
        about=row["about"],
        subject_id=row["subject_id"],
        subject_name=row["subject_name"],
        made_by=row["made_by"],
        made_at=from_seconds(row["made_at"]),
        read_at=None if row["read_at"] is None else from_seconds(row["read_at"]),
    )


def feeds(conn: Connection) -> list[Feed]:
    rows = conn.execute(f"{_FEED} WHERE f.withdrawn_at IS NULL ORDER BY f.id")
    return [_feed(row) for row in rows]


def feed(conn: Connection, feed_id: int) -> Feed | None:
    row = conn.execute(f"{_FEED} WHERE f.id = ? AND f.withdrawn_at IS NULL", (feed_id,)).fetchone()
    return _feed(row) if row else None


def by_address(conn: Connection, hashed: bytes) -> Feed | None:
    row = conn.execute(f"{_FEED} WHERE f.hash = ? AND f.withdrawn_at IS NULL", (hashed,)).fetchone()
    return _feed(row) if row else None


def add(conn: Connection, hashed: bytes, edit: FeedEdit, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO calendars (hash, about, subject_id, name, made_by, made_at)
        VALUES (?, ?, ?, ?, ?, ?)
        """,
        (hashed, edit.about, edit.subject_id, edit.name, who, at),
    )
    return int(cursor.lastrowid or 0)


def was_read(conn: Connection, feed_id: int, *, at: int) -> None:
    conn.execute("UPDATE calendars SET read_at = ? WHERE id = ?", (at, feed_id))


def read_is_old(subscribed: Feed, *, at: int) -> bool:
    """Whether it is worth a write that it was read."""
    return subscribed.read_at is None or at - subscribed.read_at.timestamp() > _READ_TO_WITHIN


def withdraw(conn: Connection, feed_id: int, *, at: int) -> bool:
    changed = conn.execute(
        "UPDATE calendars SET withdrawn_at = ? WHERE id = ? AND withdrawn_at IS NULL",
        (at, feed_id),
    )
    return changed.rowcount > 0
