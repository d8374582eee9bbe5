"""What was changed on machines, and what became of it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.runs.runs import Run
from phylax.core.tuning.changes import Change, ChangeMade, ChangeState, Drifted

THE_MACHINE = "the machine"
AT_MACHINE = "somebody at the machine"


def note(conn: Connection, run: Run, made: ChangeMade, *, word: str, who: str, at: int) -> bool:
    """What a machine did; of a change that is known already, what became of it, and by whom.
    Whether that is news."""
    if made.id is None:
        return False
    if made.state is ChangeState.MADE:
        added = conn.execute(
            """
            INSERT INTO changes
                (machine_id, run_id, id, setting, program, person, name, before, after, at,
                 who, state, comment)
            VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'made', ?) ON CONFLICT DO NOTHING
            """,
            (run.machine_id, run.id, made.id, made.setting, made.program, made.person, made.name,
             made.before, made.after, to_seconds(made.at), run.made_by, word),
        )  # fmt: skip
        return added.rowcount > 0
    by = {ChangeState.UNDONE: THE_MACHINE}.get(made.state, AT_MACHINE if made.at_machine else who)
    ended = conn.execute(
        """
        UPDATE changes SET state = ?, ended_at = ?, ended_by = ?, drifted_at = NULL,
            drifted_to = NULL
        WHERE machine_id = ? AND id = ? AND state NOT IN ('put back', 'undone by the machine')
        """,
        (made.state, at, by, run.machine_id, made.id),
    )
    return ended.rowcount > 0


def note_drift(conn: Connection, machine_id: int, drifted: Sequence[Drifted], *, at: int) -> None:
    """What a survey finds altered by somebody else, and what it finds right again."""
    drift_of = {drift.id: drift for drift in drifted}
    for row in conn.execute(
        "SELECT * FROM changes WHERE machine_id = ? AND state = 'made'",
        (machine_id,),
    ).fetchall():
        drift = drift_of.get(row["id"])
        if drift is None:
            since, now = None, None
        else:
            since = row["drifted_at"] if row["drifted_at"] is not None else at
            now = drift.value
        if (since, now) != (row["drifted_at"], row["drifted_to"]):
            conn.execute(
                """
                UPDATE changes SET drifted_at = ?, drifted_to = ?
                WHERE machine_id = ? AND id = ?
                """,
                (since, now, machine_id, row["id"]),
            )


def newly_drifted(conn: Connection, machine_id: int) -> list[Change]:
    """What is altered and was not told of yet; it is told of from now on."""
    rows = conn.execute(
        """
        UPDATE changes SET drift_notified = 1
        WHERE machine_id = ? AND drifted_at IS NOT NULL AND drift_notified = 0 RETURNING *
        """,
        (machine_id,),
    )
    return sorted((_change(row) for row in rows.fetchall()), key=lambda change: change.number)


def told_lately(
    conn: Connection, machine_ids: Sequence[int], *, since: int
) -> dict[int, list[Change]]:
    """Changes of some machines that undid themselves since then, or that somebody altered."""
    rows = conn.execute(
        """
        SELECT c.* FROM json_each(?) wanted CROSS JOIN changes c ON c.machine_id = wanted.value
        WHERE (c.state = 'undone by the machine' AND c.ended_at > ?)
           OR (c.drifted_at IS NOT NULL AND c.state = 'made')
        ORDER BY c.number
        """,
        (json.dumps(list(machine_ids)), since),
    )
    by_machine: dict[int, list[Change]] = {}
    for row in rows:
        by_machine.setdefault(row["machine_id"], []).append(_change(row))
    return by_machine


def of_machine(conn: Connection, machine_id: int) -> list[Change]:
    """What was changed on a machine, newest first."""
    rows = conn.execute(
        "SELECT * FROM changes WHERE machine_id = ? ORDER BY number DESC", (machine_id,)
    )
    return [_change(row) for row in rows]


def by_run(conn: Connection, run_id: int) -> list[Change]:
    """What a run changed."""
    rows = conn.execute("SELECT * FROM changes WHERE run_id = ? ORDER BY number", (run_id,))
    return [_change(row) for row in rows]


def named(conn: Connection, machine_id: int, ids: Sequence[str]) -> list[Change]:
    """Changes of a machine, by its own names of them."""
    rows = conn.execute(
        """
        SELECT * FROM changes WHERE machine_id = ? AND id IN (SELECT value FROM json_each(?))
        ORDER BY number
        """,
        (machine_id, json.dumps(list(ids))),
    )
    return [_change(row) for row in rows]


def change(conn: Connection, number: int) -> Change | None:
    row = conn.execute("SELECT * FROM changes WHERE number = ?", (number,)).fetchone()
    return _change(row) if row else None


def machines_name(conn: Connection, number: int) -> str:
    """What the machine calls a change."""
    row = conn.execute("SELECT id FROM changes WHERE number = ?", (number,)).fetchone()
    return str(row[0])


def _change(row: sqlite3.Row) -> Change:
    ended = row["ended_at"]
    return Change(
        number=row["number"],
        machine_id=row["machine_id"],
        run_id=row["run_id"],
        setting=row["setting"],
        program=row["program"],
        person=row["person"],
        name=row["name"],
        before=row["before"],
        after=row["after"],
        at=from_seconds(row["at"]),
        who=row["who"],
        state=ChangeState(row["state"]),
        ended_at=None if ended is None else from_seconds(ended),
        ended_by=row["ended_by"],
        comment=row["comment"],
        drifted_at=None if row["drifted_at"] is None else from_seconds(row["drifted_at"]),
        drifted_to=row["drifted_to"],
    )
