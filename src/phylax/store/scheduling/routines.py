"""Routines: every version of their steps, and how long they took."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from sqlite3 import Connection

from pydantic import TypeAdapter

from phylax.core.ground.values import from_seconds
from phylax.core.scheduling.routines import (
    GUESS,
    Routine,
    RoutineEdit,
    RoutineStep,
    in_order,
    length,
    shipped,
)

KEPT = 8
"""So many lengths are kept for each machine."""
_STEPS = TypeAdapter(tuple[RoutineStep, ...])
_ROUTINE = """
    SELECT r.id, r.shipped, v.* FROM routines r
    JOIN routine_versions v ON v.routine_id = r.id AND v.version = r.version
"""
_WITH = "Phylax"


def _routine(row: sqlite3.Row) -> Routine:
    return Routine(
        id=row["routine_id"],
        name=row["name"],
        note=row["note"],
        steps=_STEPS.validate_json(row["steps"]),
        shipped=row["shipped"] is not None,
        put_right=tuple(json.loads(row["put_right"])),
        changed_by=row["changed_by"],
        changed_at=from_seconds(row["changed_at"]),
        version=row["version"],
    )


def ship(conn: Connection, *, at: int) -> None:
    """Bring the routines that come with Phylax up to date; the shop's own are left alone."""
    for key, edit in shipped().items():
        row = conn.execute("SELECT id FROM routines WHERE shipped = ?", (key,)).fetchone()
        if row is None:
            taken = conn.execute("SELECT 1 FROM routines WHERE name = ?", (edit.name,)).fetchone()
            free = f"{edit.name} (as it came)" if taken else edit.name
            add(conn, edit.model_copy(update={"name": free}), who=_WITH, at=at, shipped=key)
            continue
        known = routine(conn, row["id"])
        assert known is not None
        if (known.note, known.steps) != (edit.note, edit.steps):
            change(conn, known.id, edit.model_copy(update={"name": known.name}), who=_WITH, at=at)


def routine(conn: Connection, routine_id: int, version: int | None = None) -> Routine | None:
    """A routine as it is, or as it was in one version."""
    if version is None:
        row = conn.execute(f"{_ROUTINE} WHERE r.id = ? AND NOT r.ended", (routine_id,)).fetchone()
    else:
        row = conn.execute(
            """
            SELECT r.shipped, v.* FROM routine_versions v JOIN routines r ON r.id = v.routine_id
            WHERE v.routine_id = ? AND v.version = ?
            """,
            (routine_id, version),
        ).fetchone()
    return _routine(row) if row else None


def routines(conn: Connection, *, after: int, limit: int) -> list[Routine]:
    rows = conn.execute(
        f"{_ROUTINE} WHERE r.id > ? AND NOT r.ended ORDER BY r.id LIMIT ?", (after, limit)
    )
    return [_routine(row) for row in rows]


def versions(conn: Connection, routine_id: int) -> list[Routine]:
    """Every version, newest first."""
    rows = conn.execute(
        """
        SELECT r.shipped, v.* FROM routine_versions v JOIN routines r ON r.id = v.routine_id
        WHERE v.routine_id = ? ORDER BY v.version DESC
        """,
        (routine_id,),
    )
    return [_routine(row) for row in rows]


def add(
    conn: Connection, edit: RoutineEdit, *, who: str, at: int, shipped: str | None = None
) -> int:
    cursor = conn.execute(
        "INSERT INTO routines (shipped, name, changed_by, changed_at) VALUES (?, ?, ?, ?)",
        (shipped, edit.name, who, at),
    )
    routine_id = int(cursor.lastrowid or 0)
    _keep(conn, routine_id, 1, edit, who=who, at=at)
    return routine_id


def change(conn: Connection, routine_id: int, edit: RoutineEdit, *, who: str, at: int) -> None:
    """A new version; runs that began with the one before finish with that one."""
    (version,) = conn.execute(
        """
        UPDATE routines SET name = ?, version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ? RETURNING version
        """,
        (edit.name, who, at, routine_id),
    ).fetchone()
    _keep(conn, routine_id, version, edit, who=who, at=at)


def _keep(
    conn: Connection, routine_id: int, version: int, edit: RoutineEdit, *, who: str, at: int
) -> None:
    ordered = in_order(edit.steps)
    conn.execute(
        "INSERT INTO routine_versions VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (
            routine_id, version, edit.name, edit.note, _STEPS.dump_json(ordered.steps).decode(),
            json.dumps(ordered.put_right), who, at,
        ),
    )  # fmt: skip


def in_rounds(conn: Connection, routine_id: int) -> list[str]:
    """The names of the rounds that repeat a routine."""
    rows = conn.execute(
        "SELECT name FROM rounds WHERE routine_id = ? AND NOT ended ORDER BY name", (routine_id,)
    )
    return [row[0] for row in rows]


def end(conn: Connection, routine_id: int, *, who: str, at: int) -> None:
    """The routine is offered no more; runs of it stay. Its name is free again."""
    conn.execute(
        """
        UPDATE routines SET ended = 1, name = name || ' (ended ' || id || ')',
               changed_by = ?, changed_at = ? WHERE id = ?
        """,
        (who, at, routine_id),
    )


# --- how long they take ------------------------------------------------------------------------


def note_length(conn: Connection, routine_id: int, machine_id: int, seconds: int) -> None:
    row = conn.execute(
        "SELECT recent FROM routine_lengths WHERE routine_id = ? AND machine_id = ?",
        (routine_id, machine_id),
    ).fetchone()
    recent = [seconds, *(json.loads(row["recent"]) if row else ())][:KEPT]
    conn.execute(
        "INSERT OR REPLACE INTO routine_lengths VALUES (?, ?, ?)",
        (routine_id, machine_id, json.dumps(recent)),
    )


def measured(conn: Connection, routine_id: int, machine_id: int) -> list[int]:
    """The last lengths of a routine on a machine, newest first."""
    row = conn.execute(
        "SELECT recent FROM routine_lengths WHERE routine_id = ? AND machine_id = ?",
        (routine_id, machine_id),
    ).fetchone()
    return list(json.loads(row["recent"])) if row else []


def elsewhere(conn: Connection, routine_id: int) -> list[int]:
    """Lengths of a routine on some machines, for those where it never ran."""
    rows = conn.execute(
        "SELECT recent FROM routine_lengths WHERE routine_id = ? LIMIT 50", (routine_id,)
    )
    return [seconds for row in rows for seconds in json.loads(row["recent"])[:1]]


def takes(conn: Connection, routine_id: int, machine_ids: Sequence[int]) -> dict[int, int]:
    """How many seconds a routine is expected to take, by machine."""
    known = {
        row["machine_id"]: json.loads(row["recent"])
        for row in conn.execute(
            """
            SELECT l.machine_id, l.recent FROM json_each(?) wanted
            -- in this order: each machine by the key, not each of the routine's by the list
            CROSS JOIN routine_lengths l ON l.routine_id = ? AND l.machine_id = wanted.value
            """,
            (json.dumps(list(machine_ids)), routine_id),
        )
    }
    others = int(length((), elsewhere(conn, routine_id)).total_seconds())
    return {
        machine_id: int(length(known[machine_id]).total_seconds())
        if machine_id in known
        else others
        for machine_id in machine_ids
    }


def takes_on(conn: Connection, routine_id: int | None, machine_id: int) -> int:
    """How many seconds a routine is expected to take on one machine."""
    if routine_id is None:
        return int(GUESS.total_seconds())
    own = measured(conn, routine_id, machine_id)
    return int(length(own, () if own else elsewhere(conn, routine_id)).total_seconds())
