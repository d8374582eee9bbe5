"""Answers that were given, so that a request that comes again is not done twice."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

ANSWERS_KEPT = 2 * 86400


class Answer(NamedTuple):
    request: str
    status: int
    body: str


def answer(conn: Connection, actor: str, key: str) -> Answer | None:
    """The answer given before to a request with this idempotency key."""
    row = conn.execute(
        "SELECT request, status, body FROM idempotency WHERE actor = ? AND key = ?", (actor, key)
    ).fetchone()
    return Answer(*row) if row else None


def keep(conn: Connection, actor: str, key: str, answer: Answer, *, at: int) -> None:
    conn.execute("DELETE FROM idempotency WHERE at < ?", (at - ANSWERS_KEPT,))
    conn.execute("INSERT INTO idempotency VALUES (?, ?, ?, ?, ?, ?)", (actor, key, *answer, at))
