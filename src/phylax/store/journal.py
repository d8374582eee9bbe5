"""What changed: events for those who watch, the audit for those who ask, answers given before."""

from __future__ import annotations

import sqlite3
from typing import NamedTuple

from phylax.core.events import Event, EventKind
from phylax.core.people import Audited
from phylax.core.values import from_seconds

Connection = sqlite3.Connection
EVENTS_KEPT = 20_000
ANSWERS_KEPT = 2 * 86400


class Answer(NamedTuple):
    request: str
    status: int
    body: str


def tell(
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


def newest_event(conn: Connection) -> int:
    row = conn.execute("SELECT max(id) FROM events").fetchone()
    return row[0] or 0


def events(conn: Connection, *, after: int, limit: int = 500) -> list[Event]:
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


def audit(
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


def audited(conn: Connection, *, before: int, limit: int) -> list[Audited]:
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


def answer(conn: Connection, actor: str, key: str) -> Answer | None:
    """The answer given before to a request with this idempotency key."""
    row = conn.execute(
        "SELECT request, status, body FROM idempotency WHERE actor = ? AND key = ?", (actor, key)
    ).fetchone()
    return Answer(*row) if row else None


def keep_answer(conn: Connection, actor: str, key: str, answer: Answer, *, at: int) -> None:
    conn.execute("DELETE FROM idempotency WHERE at < ?", (at - ANSWERS_KEPT,))
    conn.execute("INSERT INTO idempotency VALUES (?, ?, ?, ?, ?, ?)", (actor, key, *answer, at))
