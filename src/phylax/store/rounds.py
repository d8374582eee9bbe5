"""Rounds: what recurs, for which machines, and when it is due next."""

from __future__ import annotations

import json
import sqlite3
from datetime import date, time, timedelta

from phylax.core.recurrence import in_words
from phylax.core.rounds import Round, RoundEdit
from phylax.core.values import from_seconds

Connection = sqlite3.Connection


def _round(conn: Connection, row: sqlite3.Row) -> Round:
    at = time.fromisoformat(row["at"])
    machine_ids = conn.execute(
        "SELECT machine_id FROM round_machines WHERE round_id = ? ORDER BY machine_id",
        (row["id"],),
    )
    return Round(
        id=row["id"],
        name=row["name"],
        recurrence=row["recurrence"],
        how_often=in_words(row["recurrence"], at),
        at=at,
        starts_on=date.fromisoformat(row["starts_on"]),
        catch_up=timedelta(seconds=row["catch_up"]),
        machine_ids=tuple(m[0] for m in machine_ids),
        categories=tuple(json.loads(row["categories"])),
        paused=bool(row["paused"]),
        next_at=None if row["next_at"] is None else from_seconds(row["next_at"]),
        version=row["version"],
    )


def round_(conn: Connection, round_id: int) -> Round | None:
    row = conn.execute("SELECT * FROM rounds WHERE id = ? AND NOT ended", (round_id,)).fetchone()
    return _round(conn, row) if row else None


def rounds(conn: Connection, *, after: int, limit: int) -> list[Round]:
    rows = conn.execute(
        "SELECT * FROM rounds WHERE id > ? AND NOT ended ORDER BY id LIMIT ?", (after, limit)
    ).fetchall()
    return [_round(conn, row) for row in rows]


def of_machine(conn: Connection, machine_id: int) -> list[Round]:
    rows = conn.execute(
        """
        SELECT r.* FROM round_machines m JOIN rounds r ON r.id = m.round_id AND NOT r.ended
        WHERE m.machine_id = ? ORDER BY r.next_at
        """,
        (machine_id,),
    ).fetchall()
    return [_round(conn, row) for row in rows]


def next_ones(conn: Connection, *, limit: int) -> list[Round]:
    """The rounds that fall due next."""
    rows = conn.execute(
        "SELECT * FROM rounds WHERE next_at IS NOT NULL ORDER BY next_at LIMIT ?", (limit,)
    ).fetchall()
    return [_round(conn, row) for row in rows]


def due(conn: Connection, *, at: int) -> list[Round]:
    """Rounds whose next occurrence has come."""
    rows = conn.execute(
        "SELECT * FROM rounds WHERE next_at IS NOT NULL AND next_at <= ?", (at,)
    ).fetchall()
    return [_round(conn, row) for row in rows]


def next_due(conn: Connection) -> int | None:
    """When the next round of all falls due."""
    row = conn.execute("SELECT min(next_at) FROM rounds WHERE next_at IS NOT NULL").fetchone()
    return row[0] if row else None


def add(conn: Connection, edit: RoundEdit, next_at: int | None, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO rounds (name, recurrence, at, starts_on, catch_up, categories, paused,
                            next_at, changed_by, changed_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (*_columns(edit), next_at, who, at),
    )
    round_id = int(cursor.lastrowid or 0)
    _put_machines(conn, round_id, edit)
    return round_id


def change(
    conn: Connection, round_id: int, edit: RoundEdit, next_at: int | None, *, who: str, at: int
) -> None:
    conn.execute(
        """
        UPDATE rounds SET name = ?, recurrence = ?, at = ?, starts_on = ?, catch_up = ?,
               categories = ?, paused = ?, next_at = ?, version = version + 1,
               changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (*_columns(edit), next_at, who, at, round_id),
    )
    conn.execute("DELETE FROM round_machines WHERE round_id = ?", (round_id,))
    _put_machines(conn, round_id, edit)


def end(conn: Connection, round_id: int, *, who: str, at: int) -> None:
    """The round recurs no more; its runs and records stay. Its name is free again."""
    conn.execute(
        """
        UPDATE rounds SET ended = 1, next_at = NULL, name = name || ' (ended ' || id || ')',
               changed_by = ?, changed_at = ? WHERE id = ?
        """,
        (who, at, round_id),
    )


def set_next(conn: Connection, round_id: int, next_at: int | None) -> None:
    conn.execute("UPDATE rounds SET next_at = ? WHERE id = ?", (next_at, round_id))


def _columns(edit: RoundEdit) -> tuple[object, ...]:
    return (
        edit.name, edit.recurrence, edit.at.isoformat("minutes"), edit.starts_on.isoformat(),
        int(edit.catch_up.total_seconds()), json.dumps(edit.categories), int(edit.paused),
    )  # fmt: skip


def _put_machines(conn: Connection, round_id: int, edit: RoundEdit) -> None:
    conn.executemany(
        "INSERT INTO round_machines VALUES (?, ?)", [(round_id, m) for m in edit.machine_ids]
    )
