"""What changed, for those who watch."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.ground.events import Event, EventKind
from phylax.core.ground.values import from_seconds

EVENTS_KEPT = 20_000


def publish(
    conn: Connection,
    kind: EventKind,
    *,
    at: int,
    machine_id: int | None = None,
    run_id: int | None = None,
) -> None:
    """Tell those who watch that something changed; old events make room."""
    cursor = conn.execute(
        "INSERT INTO events (at, kind, machine_id, run_id) VALUES (?, ?, ?, ?)",
        (at, kind, machine_id, run_id),
    )
    newest = int(cursor.lastrowid or 0)
    if newest % 1000 == 0:
        conn.execute("DELETE FROM events WHERE id <= ?", (newest - EVENTS_KEPT,))


def newest(conn: Connection) -> int:
    row = conn.execute("SELECT max(id) FROM events").fetchone()
    return row[0] or 0


def oldest(conn: Connection) -> int:
    """The first that is kept; one after the newest where none is."""
    row = conn.execute("SELECT min(id) FROM events").fetchone()
    return row[0] or newest(conn) + 1


def listed(conn: Connection, *, after: int, limit: int = 500) -> list[Event]:
    rows = conn.execute("SELECT * FROM events WHERE id > ? ORDER BY id LIMIT ?", (after, limit))
    return [
        Event(
            id=row["id"],
            at=from_seconds(row["at"]),
            kind=EventKind(row["kind"]),
            machine_id=row["machine_id"],
            run_id=row["run_id"],
        )
        for row in rows
    ]
