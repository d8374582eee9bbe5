"""Visits of machines."""

from __future__ import annotations

import sqlite3
from datetime import date
from sqlite3 import Connection

from phylax.core.desk.visits import Move, NewVisit, Outcome, Visit, VisitEdit, Whose, is_overdue
from phylax.core.ground.values import from_seconds

_VISIT = """
    SELECT v.*, m.tag AS machine_tag, m.client_id, c.name AS client_name,
           coalesce(p.name, '') AS whom_name
    FROM visits v
    JOIN machines m ON m.id = v.machine_id
    JOIN clients c ON c.id = m.client_id
    LEFT JOIN people p ON p.id = v.whom
"""


def _visit(row: sqlite3.Row, today: date) -> Visit:
    fields = {name: row[name] for name in Visit.model_fields if name != "overdue"}
    times = {
        name: None if row[name] is None else from_seconds(row[name])
        for name in ("moved_at", "opened_at", "closed_at", "ready_at")
    }
    visit = Visit.model_validate(fields | times)
    return visit.model_copy(update={"overdue": is_overdue(visit, today)})


def visit(conn: Connection, number: int, *, today: date) -> Visit | None:
    row = conn.execute(f"{_VISIT} WHERE v.id = ?", (number,)).fetchone()
    return _visit(row, today) if row else None


def open_of(conn: Connection, machine_id: int) -> int | None:
    """The number of a machine's open visit."""
    row = conn.execute(
        "SELECT id FROM visits WHERE machine_id = ? AND closed_at IS NULL", (machine_id,)
    ).fetchone()
    return row[0] if row else None


def opened(conn: Connection, *, today: date, limit: int) -> list[Visit]:
    """All that are open: the overdue first, then by when something is due, the oldest first."""
    rows = conn.execute(
        f"""
        {_VISIT} WHERE v.closed_at IS NULL
        ORDER BY coalesce(min(coalesce(v.until, v.wanted_by), coalesce(v.wanted_by, v.until)),
                          '9999'), v.id
        LIMIT ?
        """,
        (limit,),
    )
    by_day = [_visit(row, today) for row in rows]
    return sorted(by_day, key=lambda visit: not visit.overdue)


def listed(
    conn: Connection, *, machine_id: int | None, before: int, today: date, limit: int
) -> list[Visit]:
    """Of one machine or of all, the newest first, before a number."""
    rows = conn.execute(
        f"""
        {_VISIT} WHERE v.id < ?1 AND (?2 IS NULL OR v.machine_id = ?2)
        ORDER BY v.id DESC LIMIT ?3
        """,
        (before, machine_id, limit),
    )
    return [_visit(row, today) for row in rows]


def add(conn: Connection, new: NewVisit, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO visits (machine_id, kind, said, condition, came_along, wanted_by, ask_above,
                            loan, guaranteed_until, back_from, place, shelf, whose, whom, todo,
                            moved_at, opened_by, opened_at, changed_by, changed_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', ?, ?, ?, ?, ?)
        """,
        (
            new.machine_id, *_columns(new), new.place, new.shelf, Whose.OURS, new.whom, at, who,
            at, who, at,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def change(conn: Connection, number: int, edit: VisitEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE visits SET kind = ?, said = ?, condition = ?, came_along = ?, wanted_by = ?,
               ask_above = ?, loan = ?, guaranteed_until = ?, back_from = ?,
               version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (*_columns(edit), who, at, number),
    )


def _columns(edit: VisitEdit) -> tuple[object, ...]:
    return (
        edit.kind, edit.said, edit.condition, edit.came_along, _day(edit.wanted_by),
        edit.ask_above, edit.loan, _day(edit.guaranteed_until), edit.back_from,
    )  # fmt: skip


def _day(day: date | None) -> str | None:
    return None if day is None else day.isoformat()


def move(conn: Connection, number: int, asked: Move, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE visits SET whose = ?, whom = ?, todo = ?, until = ?, place = coalesce(?, place),
               shelf = coalesce(?, shelf), moved_at = ?, version = version + 1, changed_by = ?,
               changed_at = ?
        WHERE id = ?
        """,
        (
            asked.whose, asked.whom, asked.todo, _day(asked.until), asked.place, asked.shelf, at,
            who, at, number,
        ),
    )  # fmt: skip


def close(
    conn: Connection,
    number: int,
    outcome: Outcome,
    guaranteed_until: date | None,
    *,
    who: str,
    at: int,
) -> None:
    """The machine is with its client again; nobody has a move any more."""
    conn.execute(
        """
        UPDATE visits SET outcome = ?, guaranteed_until = coalesce(?, guaranteed_until),
               place = 'client', shelf = '', todo = '', until = NULL, closed_by = ?,
               closed_at = ?, version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (outcome, _day(guaranteed_until), who, at, who, at, number),
    )


def last_change(conn: Connection, number: int) -> tuple[str, int]:
    row = conn.execute(
        "SELECT changed_by, changed_at FROM visits WHERE id = ?", (number,)
    ).fetchone()
    return row[0], row[1]
