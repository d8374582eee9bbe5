"""What starts of machines cost, and how the trials of changes were judged last."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.tuning.starts import MOST_TOLD, BootCost, Trial
from phylax.core.tuning.trials import Judged, Outcome


def add(conn: Connection, machine_id: int, starts: Iterable[BootCost]) -> bool:
    """Keep what a machine tells of its starts, each once; the oldest make room. Whether any is
    new."""
    before = conn.total_changes
    conn.executemany(
        """
        INSERT INTO starts (machine_id, boot, at, payload) VALUES (?, ?, ?,
               ?) ON CONFLICT DO NOTHING
        """,
        [
            (machine_id, start.boot, to_seconds(start.at), start.model_dump_json())
            for start in starts
        ],
    )
    is_new = conn.total_changes > before
    if is_new:
        conn.execute(
            """
            DELETE FROM starts WHERE machine_id = ?1 AND boot IN (
                SELECT boot FROM starts WHERE machine_id = ?1 ORDER BY at DESC LIMIT -1 OFFSET ?2)
            """,
            (machine_id, MOST_TOLD),
        )
    return is_new


def of_machine(conn: Connection, machine_id: int) -> list[BootCost]:
    """A machine's starts, oldest first; `at` is by the service's clock."""
    rows = conn.execute(
        "SELECT payload, at FROM starts WHERE machine_id = ? ORDER BY at, boot", (machine_id,)
    )
    return [_start(row) for row in rows]


def around(
    conn: Connection, machine_id: int, at: int, until: int | None, *, most: int
) -> tuple[list[BootCost], list[BootCost]]:
    """A machine's starts before a moment, the newest so many, and those after it until another,
    the first so many; oldest first."""
    before = conn.execute(
        """
        SELECT payload, at FROM starts WHERE machine_id = ? AND at < ? ORDER BY at DESC,
               boot LIMIT ?
        """,
        (machine_id, at, most),
    )
    after = conn.execute(
        """
        SELECT payload, at FROM starts WHERE machine_id = ? AND at >= ? AND at < ?
        ORDER BY at, boot LIMIT ?
        """,
        (machine_id, at, 2**62 if until is None else until, most),
    )
    return [_start(row) for row in before][::-1], [_start(row) for row in after]


def _start(row: sqlite3.Row) -> BootCost:
    """A start; its moment is by the service's clock."""
    start = BootCost.model_validate_json(row["payload"])
    return start.model_copy(update={"at": from_seconds(row["at"])})


def last_outcome(conn: Connection, run_id: int) -> Outcome | None:
    """How a run's trial was judged last; None where it was not yet."""
    row = conn.execute("SELECT outcome FROM trials WHERE run_id = ?", (run_id,)).fetchone()
    return Outcome(row[0]) if row else None


def note_judged(conn: Connection, trial: Trial, *, at: int) -> None:
    """Keep how a trial was judged."""
    conn.execute(
        """
        INSERT INTO trials (run_id, machine_id, programs, outcome, judged, at)
        VALUES (?, ?, ?, ?, ?, ?)
        ON CONFLICT (run_id) DO UPDATE SET outcome = excluded.outcome, judged = excluded.judged,
            at = excluded.at
        """,
        (
            trial.run_id, trial.machine_id, json.dumps(list(trial.programs)),
            trial.judged.outcome, trial.judged.model_dump_json(), at,
        ),
    )  # fmt: skip


def made_worse(
    conn: Connection, machine_ids: Sequence[int]
) -> list[tuple[int, int, tuple[str, ...], Judged, int]]:
    """Trials of some machines that made it worse, with something of them still in force:
    (machine, run, programs, how it was judged, when)."""
    rows = conn.execute(
        """
        SELECT t.machine_id, t.run_id, t.programs, t.judged, t.at
        FROM json_each(?) wanted
        JOIN trials t ON t.machine_id = wanted.value AND t.outcome = 'made it worse'
        WHERE EXISTS (SELECT 1 FROM changes c WHERE c.run_id = t.run_id AND c.state = 'made')
        """,
        (json.dumps(list(machine_ids)),),
    )
    return [
        (row[0], row[1], tuple(json.loads(row[2])), Judged.model_validate_json(row[3]), row[4])
        for row in rows
    ]
