"""Rules and routines that were changed, and what cleanings came to before and after."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.retention import Scope


class RuleChange(NamedTuple):
    at: int
    who: str
    scope: Scope
    subject_id: int
    category: str
    before: str
    after: str


class RoutineChange(NamedTuple):
    at: int
    who: str
    routine_id: int
    version: int
    name: str


class RunsSum(NamedTuple):
    """What a routine's last runs came to."""

    runs: int
    first_at: int
    last_at: int
    freed: int
    worked: int
    partly: int


def note_rule(
    conn: Connection, scope: Scope, subject_id: int, category: str, before: str, after: str,
    *, who: str, at: int,
) -> None:  # fmt: skip
    if before != after:
        conn.execute(
            "INSERT INTO rule_changes (at, who, scope, subject_id, category, before, after)"
            " VALUES (?, ?, ?, ?, ?, ?, ?)",
            (at, who, scope, subject_id, category, before, after),
        )


def rule_changes(conn: Connection, since: int, limit: int) -> list[RuleChange]:
    """Newest first."""
    rows = conn.execute(
        """
        SELECT at, who, scope, subject_id, category, before, after FROM rule_changes
        WHERE at >= ? ORDER BY at DESC LIMIT ?
        """,
        (since, limit),
    )
    return [RuleChange(row[0], row[1], Scope(row[2]), *row[3:]) for row in rows]


def routine_changes(conn: Connection, since: int, limit: int) -> list[RoutineChange]:
    """Newest first; not the first version of each."""
    rows = conn.execute(
        """
        SELECT changed_at, changed_by, routine_id, version, name FROM routine_versions
        WHERE changed_at >= ? AND version > 1 ORDER BY changed_at DESC LIMIT ?
        """,
        (since, limit),
    )
    return [RoutineChange(*row) for row in rows]


def runs_of_version(conn: Connection, routine_id: int, version: int, most: int = 200) -> RunsSum:
    """What the last runs of one version of a routine came to."""
    row = conn.execute(
        """
        SELECT count(*), coalesce(min(ended_at), 0), coalesce(max(ended_at), 0),
               cast(total(freed) AS INTEGER), coalesce(sum(worked), 0),
               coalesce(sum(state = 'partly'), 0)
        FROM (SELECT * FROM runs
              WHERE routine_id = ? AND routine_version = ? AND state IN ('done', 'partly')
              ORDER BY id DESC LIMIT ?)
        """,
        (routine_id, version, most),
    ).fetchone()
    return RunsSum(*row)
