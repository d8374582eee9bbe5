"""Parts on order, machines that can be fetched, and sealed notes of visits."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from datetime import date
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.desk.open_visit import OpenVisit, late_part
from phylax.core.desk.orders import NewPart, NoteReading, OrderedPart, PartState, SealedNote
from phylax.core.desk.visits import Turn, waiting_for
from phylax.core.ground.values import from_seconds

_PART = """
    SELECT o.*, m.tag AS machine_tag, c.name AS client_name
    FROM ordered_parts o
    JOIN visits v ON v.id = o.visit_id
    JOIN machines m ON m.id = v.machine_id
    JOIN clients c ON c.id = m.client_id
"""


# --- parts -----------------------------------------------------------------------------------


def _part(row: sqlite3.Row, today: date) -> OrderedPart:
    expected = row["expected"] and date.fromisoformat(row["expected"])
    return OrderedPart(
        id=row["id"],
        visit_id=row["visit_id"],
        machine_tag=row["machine_tag"],
        client_name=row["client_name"],
        item=row["item"],
        supplier=row["supplier"],
        expected=expected,
        state=PartState(row["state"]),
        overdue=bool(expected) and row["state"] == PartState.ORDERED and expected < today,
        ordered_by=row["ordered_by"],
        ordered_at=from_seconds(row["ordered_at"]),
        ended_by=row["ended_by"],
        ended_at=None if row["ended_at"] is None else from_seconds(row["ended_at"]),
    )


def part(conn: Connection, number: int, *, today: date) -> OrderedPart | None:
    row = conn.execute(f"{_PART} WHERE o.id = ?", (number,)).fetchone()
    return _part(row, today) if row else None


def parts(conn: Connection, visit: int | None, *, today: date, limit: int) -> list[OrderedPart]:
    """Of a visit all of them; of the shop those that are waited for, the latest first."""
    rows = conn.execute(
        f"""
        {_PART} WHERE (?1 IS NULL AND o.state = 'ordered') OR o.visit_id = ?1
        ORDER BY o.expected IS NULL, o.expected, o.id LIMIT ?2
        """,
        (visit, limit),
    )
    return [_part(row, today) for row in rows]


def add_part(conn: Connection, visit: int, new: NewPart, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO ordered_parts (visit_id, item, supplier, expected, ordered_by, ordered_at)
        VALUES (?, ?, ?, ?, ?, ?)
        """,
        (visit, new.item, new.supplier, new.expected and new.expected.isoformat(), who, at),
    )
    return int(cursor.lastrowid or 0)


def set_part(conn: Connection, number: int, state: PartState, *, who: str, at: int) -> None:
    ended = (None, "") if state is PartState.ORDERED else (at, who)
    conn.execute(
        "UPDATE ordered_parts SET state = ?, ended_at = ?, ended_by = ? WHERE id = ?",
        (state, *ended, number),
    )


# --- ready -----------------------------------------------------------------------------------


class Waiting(NamedTuple):
    """A machine that can be fetched, of which its client is told by mail."""

    visit: int
    machine_id: int
    machine_tag: str
    make_and_model: str
    mail: str
    ready_at: int
    reminded: int


def set_ready(conn: Connection, visit: int, mail: str, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE visits SET ready_at = ?1, ready_mail = ?2, reminded = 0, turn = 'client',
               assignee_id = NULL, todo = 'fetch it', follow_up_on = NULL, moved_at = ?1,
               version = version + 1, changed_by = ?3, changed_at = ?1
        WHERE id = ?4
        """,
        (at, mail, who, visit),
    )


def not_ready(conn: Connection, visit: int) -> None:
    """It is not ready any more: somebody acts next."""
    conn.execute("UPDATE visits SET ready_at = NULL, ready_mail = '' WHERE id = ?", (visit,))


def waiting(conn: Connection, *, before: int) -> list[Waiting]:
    """What can be fetched since before a time, and whose client is told by mail."""
    rows = conn.execute(
        """
        SELECT v.id, v.machine_id, m.tag, trim(m.make || ' ' || m.model) AS made, v.ready_mail,
               v.ready_at, v.reminded
        FROM visits v JOIN machines m ON m.id = v.machine_id
        WHERE v.ready_at IS NOT NULL AND v.closed_at IS NULL AND v.ready_at <= ?
          AND v.ready_mail <> ''
        """,
        (before,),
    )
    return [Waiting(*row) for row in rows]


def note_reminded(conn: Connection, visit: int, times: int) -> None:
    conn.execute("UPDATE visits SET reminded = ? WHERE id = ?", (times, visit))


def in_hand(conn: Connection, machine_ids: Sequence[int], *, today: date) -> dict[int, OpenVisit]:
    """What attention looks at of the open visits of some machines."""
    rows = conn.execute(
        """
        SELECT v.* FROM json_each(?) wanted
        JOIN visits v ON v.machine_id = wanted.value AND v.closed_at IS NULL
        """,
        (json.dumps(list(machine_ids)),),
    ).fetchall()
    late: dict[int, list[sqlite3.Row]] = {}
    for row in conn.execute(
        """
        SELECT visit_id, item, supplier, expected FROM ordered_parts
        WHERE state = 'ordered' AND expected < ? ORDER BY expected
        """,
        (today.isoformat(),),
    ):
        late.setdefault(row["visit_id"], []).append(row)
    return {row["machine_id"]: _in_hand(row, late.get(row["id"], []), today) for row in rows}


def _in_hand(row: sqlite3.Row, late: Sequence[sqlite3.Row], today: date) -> OpenVisit:
    due = [
        date.fromisoformat(row[name])
        for name in ("follow_up_on", "due_on")
        if row[name] and row["ready_at"] is None
    ]
    overdue = [day for day in due if day < today]
    parts = [
        late_part(part["item"], part["supplier"], date.fromisoformat(part["expected"]))
        for part in late
    ]
    return OpenVisit(
        visit=row["id"],
        overdue_since=min(overdue, default=None),
        todo=row["todo"],
        waiting_for=waiting_for(Turn(row["turn"])),
        ready_at=None if row["ready_at"] is None else from_seconds(row["ready_at"]),
        was_mailed=row["ready_mail"] != "",
        reminded=row["reminded"],
        late_parts=tuple(parts),
        late_since=date.fromisoformat(late[0]["expected"]) if late else None,
    )


# --- sealed notes ----------------------------------------------------------------------------


def notes(conn: Connection, visit: int) -> list[SealedNote]:
    rows = conn.execute("SELECT * FROM sealed_notes WHERE visit_id = ? ORDER BY id", (visit,))
    return [_note(conn, row) for row in rows]


def _note(conn: Connection, row: sqlite3.Row) -> SealedNote:
    readings = conn.execute(
        "SELECT who, at FROM sealed_note_readings WHERE note_id = ? ORDER BY at", (row["id"],)
    )
    destroyed = row["destroyed_at"]
    return SealedNote(
        id=row["id"],
        visit_id=row["visit_id"],
        title=row["title"],
        made_by=row["made_by"],
        made_at=from_seconds(row["made_at"]),
        destroyed_at=None if destroyed is None else from_seconds(destroyed),
        readings=tuple(NoteReading(who=who, at=from_seconds(at)) for who, at in readings),
    )


def note(conn: Connection, number: int) -> SealedNote | None:
    row = conn.execute("SELECT * FROM sealed_notes WHERE id = ?", (number,)).fetchone()
    return _note(conn, row) if row else None


def sealed(conn: Connection, number: int) -> str:
    """As it is kept; empty once it is destroyed."""
    row = conn.execute("SELECT sealed FROM sealed_notes WHERE id = ?", (number,)).fetchone()
    return row[0] if row else ""


def add_note(conn: Connection, visit: int, title: str, closed: str, *, who: str, at: int) -> int:
    cursor = conn.execute(
        "INSERT INTO sealed_notes (visit_id, title, sealed, made_by, made_at)"
        " VALUES (?, ?, ?, ?, ?)",
        (visit, title, closed, who, at),
    )
    return int(cursor.lastrowid or 0)


def note_read(conn: Connection, number: int, *, who: str, at: int) -> None:
    conn.execute("INSERT INTO sealed_note_readings VALUES (?, ?, ?)", (number, who, at))


def destroy_notes(conn: Connection, visit: int, *, at: int, number: int | None = None) -> int:
    """What a visit's sealed notes say is not there any more, nor in the pages that it lay on."""
    conn.execute("PRAGMA secure_delete = ON")
    cursor = conn.execute(
        """
        UPDATE sealed_notes SET sealed = '', destroyed_at = ?
        WHERE visit_id = ? AND destroyed_at IS NULL AND (?3 IS NULL OR id = ?3)
        """,
        (at, visit, number),
    )
    return cursor.rowcount


def has_worked_on(conn: Connection, visit: int, who: str) -> bool:
    """Whether somebody has written into the record of a visit."""
    row = conn.execute(
        """
        SELECT 1 FROM records r JOIN record_parts p ON p.entry = r.id
        WHERE r.visit_id = ? AND p.who = ? LIMIT 1
        """,
        (visit, who),
    ).fetchone()
    return row is not None
