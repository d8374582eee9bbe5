"""One change on many machines: who is in which half, and which run did it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from sqlite3 import Connection

from phylax.core.ground.values import Scalar, from_seconds
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.setting import settings
from phylax.core.tuning.shared import NewSharedChange, SharedChange, SharedMachine


def add(
    conn: Connection, new: NewSharedChange, name: str, *, half_first: bool, who: str, at: int
) -> int:
    """Begin one; its number."""
    row = conn.execute(
        """
        INSERT INTO shared_changes
            (setting, program, name, intent, value, half_first, who, at, comment)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id
        """,
        (new.setting, new.program, name, new.intent or "",
         None if new.value is None else json.dumps(new.value), int(half_first), who, at,
         new.comment),
    ).fetchone()  # fmt: skip
    return int(row[0])


def add_machines(conn: Connection, number: int, machines: Iterable[tuple[int, bool]]) -> None:
    """(machine, whether it is of the first half)."""
    conn.executemany(
        "INSERT INTO shared_change_machines (shared_id, machine_id, first) VALUES (?, ?, ?)",
        [(number, machine_id, int(first)) for machine_id, first in machines],
    )


def note_run(conn: Connection, number: int, machine_id: int, run_id: int) -> None:
    conn.execute(
        "UPDATE shared_change_machines SET run_id = ? WHERE shared_id = ? AND machine_id = ?",
        (run_id, number, machine_id),
    )


def note_rest(conn: Connection, number: int, *, at: int) -> None:
    """The other half has its turn."""
    conn.execute(
        "UPDATE shared_changes SET rest_at = coalesce(rest_at, ?) WHERE id = ?", (at, number)
    )


def of_run(conn: Connection, run_id: int) -> tuple[int, int] | None:
    """The number of the shared change that a run is of, and on how many machines it is."""
    row = conn.execute(
        """
        SELECT shared_id, (SELECT count(*) FROM shared_change_machines
                           WHERE shared_id = of.shared_id)
        FROM shared_change_machines of WHERE run_id = ?
        """,
        (run_id,),
    ).fetchone()
    return (int(row[0]), int(row[1])) if row else None


def numbers(conn: Connection, limit: int) -> list[int]:
    """The newest first."""
    rows = conn.execute("SELECT id FROM shared_changes ORDER BY id DESC LIMIT ?", (limit,))
    return [row[0] for row in rows]


def get(conn: Connection, number: int) -> SharedChange | None:
    """One of them, not judged."""
    row = conn.execute("SELECT * FROM shared_changes WHERE id = ?", (number,)).fetchone()
    if row is None:
        return None
    machines = conn.execute(
        """
        SELECT s.machine_id, s.first, s.run_id, m.tag, cl.name AS client_name,
               json_group_array(json_array(c.number, c.state)) AS changes
        FROM shared_change_machines s
        JOIN machines m ON m.id = s.machine_id JOIN clients cl ON cl.id = m.client_id
        LEFT JOIN changes c ON c.run_id = s.run_id AND c.setting = ?2 AND c.program = ?3
        WHERE s.shared_id = ?1 GROUP BY s.machine_id ORDER BY s.first DESC, m.tag
        """,
        (number, row["setting"], row["program"]),
    )
    value = None if row["value"] is None else json.loads(row["value"])
    return SharedChange(
        id=row["id"],
        setting=row["setting"],
        program=row["program"],
        name=row["name"],
        intent=Intent(row["intent"]) if row["intent"] else None,
        value=value,
        becomes=row["intent"] or _in_words(row["setting"], value),
        half_first=bool(row["half_first"]),
        who=row["who"],
        at=from_seconds(row["at"]),
        rest_at=None if row["rest_at"] is None else from_seconds(row["rest_at"]),
        comment=row["comment"],
        machines=tuple(map(_machine, machines)),
    )


def _machine(row: sqlite3.Row) -> SharedMachine:
    changes = [(number, state) for number, state in json.loads(row["changes"]) if state]
    states = [ChangeState(state) for _, state in sorted(changes)]
    state = ChangeState.MADE if ChangeState.MADE in states else next(iter(states), None)
    return SharedMachine(
        machine_id=row["machine_id"],
        tag=row["tag"],
        client_name=row["client_name"],
        first=bool(row["first"]),
        run_id=row["run_id"],
        changes=tuple(sorted(number for number, _ in changes)),
        state=state,
    )


def _in_words(setting: str, value: Scalar | None) -> str:
    known = settings().get(setting)
    return known.shown(value) if known else str(value)
