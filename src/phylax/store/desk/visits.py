"""Visits of machines."""

from __future__ import annotations

import sqlite3
from datetime import date
from sqlite3 import Connection

from phylax.core.desk.visits import NewVisit, NextTurn, Outcome, Turn, Visit, VisitEdit, is_overdue
from phylax.core.ground.values import from_seconds

_VISIT = """
    SELECT v.*, m.tag AS machine_tag, m.client_id, c.name AS client_name,
           coalesce(p.name, '') AS assignee_name
    FROM visits v
    JOIN machines m ON m.id = v.machine_id
    JOIN clients c ON c.id = m.client_id
    LEFT JOIN people p ON p.id = v.assignee_id
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
        ORDER BY coalesce(min(coalesce(v.follow_up_on, v.due_on), coalesce(v.due_on,
        v.follow_up_on)),
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
        INSERT INTO visits (machine_id, kind, reported_problem, condition, accessories, due_on,
               approval_limit,
                            loaner, guaranteed_until, earlier_visit_id, place, shelf, turn,
                            assignee_id, todo,
                            moved_at, opened_by, opened_at, changed_by, changed_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', ?, ?, ?, ?, ?)
        """,
        (
            new.machine_id, *_columns(new), new.place, new.shelf, Turn.US, new.assignee_id, at, who,
            at, who, at,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def change(conn: Connection, number: int, edit: VisitEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE visits SET kind = ?, reported_problem = ?, condition = ?, accessories = ?,
               due_on = ?,
               approval_limit = ?, loaner = ?, guaranteed_until = ?, earlier_visit_id = ?,
               version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (*_columns(edit), who, at, number),
    )


def _columns(edit: VisitEdit) -> tuple[object, ...]:
    return (
        edit.kind, edit.reported_problem, edit.condition, edit.accessories, _day(edit.due_on),
        edit.approval_limit, edit.loaner, _day(edit.guaranteed_until), edit.earlier_visit_id,
    )  # fmt: skip


def _day(day: date | None) -> str | None:
    return None if day is None else day.isoformat()


def set_turn(conn: Connection, number: int, asked: NextTurn, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE visits SET turn = ?, assignee_id = ?, todo = ?, follow_up_on = ?,
               place = coalesce(?, place),
               shelf = coalesce(?, shelf), moved_at = ?, version = version + 1, changed_by = ?,
               changed_at = ?
        WHERE id = ?
        """,
        (
            asked.turn, asked.assignee_id, asked.todo, _day(asked.follow_up_on), asked.place,
            asked.shelf, at,
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
               place = 'client', shelf = '', todo = '', follow_up_on = NULL, closed_by = ?,
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
