"""Runs: made once, leased to their machine's agent, ended once."""

from __future__ import annotations

import json
import sqlite3
from typing import Any

from phylax.core.balance import balance
from phylax.core.holds import HeldPicks
from phylax.core.orders import Progress, ResultMessage
from phylax.core.runs import Conclusion, Run, RunDetail, RunState, Work
from phylax.core.survey import Tally
from phylax.core.values import from_seconds, to_seconds

Connection = sqlite3.Connection

_RUN = """
    SELECT r.*, m.tag AS machine_tag, c.name AS client_name, o.name AS round_name
    FROM runs r
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id
    LEFT JOIN rounds o ON o.id = r.round_id
"""


def _moment(seconds: int | None) -> Any:
    return None if seconds is None else from_seconds(seconds)


def _fields(row: sqlite3.Row) -> dict[str, Any]:
    return {
        "id": row["id"],
        "machine_id": row["machine_id"],
        "machine_tag": row["machine_tag"],
        "client_name": row["client_name"],
        "work": row["work"],
        "categories": tuple(json.loads(row["categories"])),
        "state": RunState(row["state"]),
        "reason": row["reason"],
        "round_id": row["round_id"],
        "round_name": row["round_name"],
        "made_by": row["made_by"],
        "made_at": _moment(row["made_at"]),
        "due_at": _moment(row["due_at"]),
        "until_at": _moment(row["until_at"]),
        "started_at": _moment(row["started_at"]),
        "ended_at": _moment(row["ended_at"]),
        "progress": row["progress"] and Progress.model_validate_json(row["progress"]),
        "expected": row["expected"] and Tally.model_validate_json(row["expected"]),
        "removed": row["removed"] and Tally.model_validate_json(row["removed"]),
        "held": row["held"] and Tally.model_validate_json(row["held"]),
        "put_back": row["put_back"] and Tally.model_validate_json(row["put_back"]),
        "freed": row["freed"],
        "survey_id": row["survey_id"],
        "second_look_id": row["second_look_id"],
    }


def _run(row: sqlite3.Row) -> Run:
    return Run(**_fields(row))


def run(conn: Connection, run_id: int) -> Run | None:
    row = conn.execute(f"{_RUN} WHERE r.id = ?", (run_id,)).fetchone()
    return _run(row) if row else None


def runs_by_id(conn: Connection, ids: str) -> dict[int, Run]:
    """Chosen runs by number; `ids` is a JSON array."""
    rows = conn.execute(f"{_RUN} WHERE r.id IN (SELECT value FROM json_each(?))", (ids,))
    return {row["id"]: _run(row) for row in rows}


def detail(conn: Connection, run_id: int) -> RunDetail | None:
    """A run with what became of every category."""
    row = conn.execute(f"{_RUN} WHERE r.id = ?", (run_id,)).fetchone()
    if row is None:
        return None
    fields = _fields(row)
    if row["result"]:
        result = ResultMessage.model_validate_json(row["result"])
        fields |= {
            "outcomes": result.outcomes,
            "left": result.left,
            "before": result.before,
            "after": result.after,
            "resumed": result.resumed,
            "passes": result.passes,
            "uncertain": result.uncertain,
        }
        if row["work"] == "clean":
            fields["balance"] = balance(
                fields["expected"], result.outcomes, result.before, result.after
            )
    return RunDetail(**fields)


def runs(conn: Connection, *, before: int, limit: int, machine_id: int | None = None) -> list[Run]:
    """Runs, newest first, before a number; of one machine or all."""
    where = "r.id < :before" if machine_id is None else "r.machine_id = :machine AND r.id < :before"
    rows = conn.execute(
        f"{_RUN} WHERE {where} ORDER BY r.id DESC LIMIT :limit",
        {"before": before, "machine": machine_id, "limit": limit},
    )
    return [_run(row) for row in rows]


def open_runs(conn: Connection) -> list[Run]:
    """Everything that waits, is offered or runs."""
    rows = conn.execute(
        f"{_RUN} WHERE r.state IN ('waiting', 'offered', 'running') ORDER BY r.due_at, r.id"
    )
    return [_run(row) for row in rows]


def ended_since(conn: Connection, since: int, *, limit: int) -> list[Run]:
    """What ended since a time, newest first."""
    rows = conn.execute(
        f"{_RUN} WHERE r.ended_at >= ? ORDER BY r.ended_at DESC LIMIT ?", (since, limit)
    )
    return [_run(row) for row in rows]


def cleanings(conn: Connection, machine_id: int, since: int, until: int) -> list[Run]:
    """Cleanings of a machine that ended in a span, in order."""
    rows = conn.execute(
        f"""
        {_RUN} WHERE r.machine_id = ? AND r.work = 'clean'
          AND r.state IN ('done', 'partly') AND r.ended_at BETWEEN ? AND ? ORDER BY r.ended_at
        """,
        (machine_id, since, until),
    )
    return [_run(row) for row in rows]


def add(
    conn: Connection,
    machine_id: int,
    work: Work,
    categories: tuple[str, ...],
    *,
    who: str,
    at: int,
    due_at: int | None = None,
    until_at: int | None = None,
    round_id: int | None = None,
    survey_id: int | None = None,
    expected: Tally | None = None,
    held_picks: HeldPicks | None = None,
) -> int | None:
    """A new waiting run; None where the round's occurrence exists already."""
    cursor = conn.execute(
        """
        INSERT INTO runs (machine_id, round_id, work, categories, state, made_by, made_at, due_at,
                          until_at, survey_id, expected, held_picks)
        VALUES (?, ?, ?, ?, 'waiting', ?, ?, ?, ?, ?, ?, ?)
        ON CONFLICT DO NOTHING
        """,
        (
            machine_id, round_id, work, json.dumps(categories), who, at,
            at if due_at is None else due_at, until_at, survey_id,
            expected.model_dump_json() if expected else None,
            held_picks.model_dump_json() if held_picks else None,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0) if cursor.rowcount else None


def held_picks(conn: Connection, run_id: int) -> HeldPicks:
    """What a run is to put back or to let go."""
    row = conn.execute("SELECT held_picks FROM runs WHERE id = ?", (run_id,)).fetchone()
    return HeldPicks.model_validate_json(row["held_picks"])


def has_open(conn: Connection, machine_id: int) -> bool:
    row = conn.execute(
        """
        SELECT 1 FROM runs
        WHERE machine_id = ? AND state IN ('waiting', 'offered', 'running') LIMIT 1
        """,
        (machine_id,),
    ).fetchone()
    return row is not None


def offer(conn: Connection, machine_id: int, lease: str, *, at: int, until: int) -> Run | None:
    """Lease the machine's next run, if none is out on lease already.

    A run whose lease has run out is offered again, before newer ones.
    """
    row = conn.execute(
        """
        SELECT id FROM runs
        WHERE machine_id = :machine AND state IN ('waiting', 'offered', 'running')
          AND due_at <= :at AND stop_by IS NULL
          AND NOT EXISTS (
              SELECT 1 FROM runs busy
              WHERE busy.machine_id = :machine AND busy.state IN ('offered', 'running')
                AND busy.lease_until > :at)
        ORDER BY state = 'waiting', due_at, id LIMIT 1
        """,
        {"machine": machine_id, "at": at},
    ).fetchone()
    if row is None:
        return None
    conn.execute(
        """
        UPDATE runs SET state = iif(state = 'running', 'running', 'offered'),
               lease = ?, lease_until = ? WHERE id = ?
        """,
        (lease, until, row["id"]),
    )
    return run(conn, row["id"])


def hold_lease(
    conn: Connection,
    machine_id: int,
    run_id: int,
    lease: str,
    progress: Progress,
    *,
    at: int,
    until: int,
) -> bool:
    """Note progress and extend the lease; False when the run is to stop or is not this lease's."""
    changed = conn.execute(
        """
        UPDATE runs SET state = 'running', started_at = coalesce(started_at, :at),
               lease_until = :until, progress = :progress
        WHERE id = :run AND machine_id = :machine AND lease = :lease
          AND state IN ('offered', 'running')
        """,
        {
            "at": at,
            "until": until,
            "progress": progress.model_dump_json(),
            "run": run_id,
            "machine": machine_id,
            "lease": lease,
        },
    )
    if not changed.rowcount:
        return False
    row = conn.execute("SELECT stop_by FROM runs WHERE id = ?", (run_id,)).fetchone()
    return row["stop_by"] is None


def note_look(
    conn: Connection, run_id: int, survey_id: int, expected: Tally | None, *, second: bool
) -> None:
    """Tie a finished look to its run; a first look tells what to expect."""
    if second:
        conn.execute("UPDATE runs SET second_look_id = ? WHERE id = ?", (survey_id, run_id))
        return
    conn.execute(
        "UPDATE runs SET survey_id = ?, expected = coalesce(?, expected) WHERE id = ?",
        (survey_id, expected.model_dump_json() if expected else None, run_id),
    )


def end(
    conn: Connection,
    run_id: int,
    state: RunState,
    reason: str,
    *,
    at: int,
    result: ResultMessage | None = None,
    conclusion: Conclusion | None = None,
) -> bool:
    """End a run, once. False when it had ended already."""
    changed = conn.execute(
        """
        UPDATE runs SET state = :state, reason = :reason, ended_at = :at, lease = NULL,
               lease_until = NULL, progress = NULL, result = :result, removed = :removed,
               held = :held, put_back = :put_back, freed = :freed,
               started_at = coalesce(started_at, :started)
        WHERE id = :run AND state IN ('waiting', 'offered', 'running')
        """,
        {
            "state": state,
            "reason": reason,
            "at": at,
            "result": result and result.model_dump_json(),
            "removed": conclusion and conclusion.removed.model_dump_json(),
            "held": conclusion and conclusion.held.model_dump_json(),
            "put_back": conclusion and conclusion.put_back.model_dump_json(),
            "freed": conclusion and conclusion.freed,
            "started": result and to_seconds(result.started_at),
            "run": run_id,
        },
    )
    return changed.rowcount > 0


def ask_to_stop(conn: Connection, run_id: int, *, who: str) -> None:
    """The agent is told with its next progress, and says how far it came."""
    conn.execute("UPDATE runs SET stop_by = ? WHERE id = ?", (who, run_id))


def stop_asked_by(conn: Connection, run_id: int) -> str | None:
    row = conn.execute("SELECT stop_by FROM runs WHERE id = ?", (run_id,)).fetchone()
    return row[0] if row else None


def out_of_time(conn: Connection, *, at: int) -> list[Run]:
    """Waiting runs whose catch-up limit has passed."""
    rows = conn.execute(
        f"{_RUN} WHERE r.state = 'waiting' AND r.until_at IS NOT NULL AND r.until_at < ?", (at,)
    )
    return [_run(row) for row in rows]


def waiting_of_round(conn: Connection, round_id: int, machine_id: int) -> list[Run]:
    """Occurrences of a round that still wait for their machine."""
    rows = conn.execute(
        f"{_RUN} WHERE r.machine_id = ? AND r.state = 'waiting' AND r.round_id = ?",
        (machine_id, round_id),
    )
    return [_run(row) for row in rows]


def lapsed(conn: Connection, *, at: int) -> list[Run]:
    """Runs out on a lease that has run out."""
    rows = conn.execute(
        f"{_RUN} WHERE r.state IN ('offered', 'running') AND r.lease_until < ?", (at,)
    )
    return [_run(row) for row in rows]


def take_back(conn: Connection, run_id: int) -> None:
    """An offer nobody took up waits again."""
    conn.execute(
        """
        UPDATE runs SET state = 'waiting', lease = NULL, lease_until = NULL
        WHERE id = ? AND state = 'offered'
        """,
        (run_id,),
    )


def note_standing(conn: Connection, run_id: int) -> None:
    """The machine's standing after a run has ended.

    A look that went well does not make up for a cleaning that failed or was missed.
    """
    conn.execute(
        """
        UPDATE machines SET
            last_run_id = iif(r.work = 'clean' OR (r.work = 'survey' AND r.state <> 'done')
                              OR last.work = 'survey' OR last.id IS NULL, r.id, last.id),
            missed_in_a_row = CASE
                WHEN r.state = 'missed' THEN machines.missed_in_a_row + 1
                WHEN r.work = 'clean' THEN 0
                ELSE machines.missed_in_a_row END,
            cleaned_at = iif(r.work = 'clean' AND r.state IN ('done', 'partly'),
                             max(coalesce(machines.cleaned_at, 0), r.ended_at), machines.cleaned_at)
        FROM runs r
        JOIN machines m ON m.id = r.machine_id
        LEFT JOIN runs last ON last.id = m.last_run_id
        WHERE r.id = ? AND machines.id = r.machine_id
        """,
        (run_id,),
    )
