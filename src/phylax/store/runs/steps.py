"""The steps of runs: laid out when a run is begun, ticked as they are done."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.scheduling.routines import RoutineStep, RunStep, StepState
from phylax.store.scheduling import routines


def of_run(
    conn: Connection, run_id: int, routine_id: int | None, version: int | None
) -> tuple[RunStep, ...]:
    """A run's steps; those of its routine where nobody has begun; none without a routine."""
    if routine_id is None:
        return ()
    rows = conn.execute(
        "SELECT * FROM run_steps WHERE run_id = ? ORDER BY number", (run_id,)
    ).fetchall()
    if rows:
        return tuple(_step(row) for row in rows)
    routine = routines.routine(conn, routine_id, version)
    return _numbered(routine.steps) if routine else ()


def _numbered(steps: Sequence[RoutineStep]) -> tuple[RunStep, ...]:
    return tuple(
        RunStep(
            number=number,
            kind=step.kind,
            categories=step.categories,
            title=step.title,
            text=step.text,
        )
        for number, step in enumerate(steps, 1)
    )


def _step(row: sqlite3.Row) -> RunStep:
    return RunStep(
        number=row["number"],
        kind=row["kind"],
        categories=tuple(json.loads(row["categories"])),
        title=row["title"],
        text=row["text"],
        state=row["state"],
        at=None if row["at"] is None else from_seconds(row["at"]),
        by=row["by"],
        comment=row["comment"],
    )


def lay_out(conn: Connection, run_id: int, steps: Sequence[RunStep]) -> None:
    """Keep a run's steps as its own; once."""
    conn.executemany(
        """
        INSERT INTO run_steps (run_id, number, kind, categories, title, text)
        VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING
        """,
        [
            (run_id, step.number, step.kind, json.dumps(step.categories), step.title, step.text)
            for step in steps
        ],
    )


def start_over(conn: Connection, run_id: int) -> None:
    """What was under way is to do again: nobody took it up."""
    conn.execute(
        "UPDATE run_steps SET state = 'to do' WHERE run_id = ? AND state = 'under way'", (run_id,)
    )


def put(
    conn: Connection,
    run_id: int,
    numbers: Sequence[int],
    state: StepState,
    *,
    at: int,
    by: str,
    word: str = "",
) -> None:
    """What is to be said of some steps now."""
    over = state.is_over
    conn.executemany(
        """
        UPDATE run_steps SET state = ?, at = ?, by = ?, comment = ?
        WHERE run_id = ? AND number = ?
        """,
        [(state, at if over else None, by if over else "", word, run_id, n) for n in numbers],
    )
