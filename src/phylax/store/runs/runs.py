"""Runs: made once, leased to their machine's agent, ended once."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from datetime import datetime
from sqlite3 import Connection
from typing import Any, NamedTuple

from phylax.core.actions import Action
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.hold.holds import HeldPicks
from phylax.core.protocol import Progress, ResultMessage
from phylax.core.runs.balance import balance
from phylax.core.runs.runs import Conclusion, Run, RunDetail, RunState, SettingsPicks, Work
from phylax.store.runs import step_lengths, steps
from phylax.store.schema.renaming import renamed_keys

RUN = """
    SELECT r.*, m.tag AS machine_tag, c.name AS client_name, o.name AS round_name,
           v.name AS routine_name
    FROM runs r
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id
    LEFT JOIN rounds o ON o.id = r.round_id
    LEFT JOIN routine_versions v
        ON v.routine_id = r.routine_id AND v.version = r.routine_version
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
        "volumes": json.loads(row["volumes"] or "{}"),
        "action": row["action"] and json.loads(row["action"]),
        "state": RunState(row["state"]),
        "reason": row["reason"],
        "round_id": row["round_id"],
        "round_name": row["round_name"],
        "routine_id": row["routine_id"],
        "routine_name": row["routine_name"],
        "routine_version": row["routine_version"],
        "cause": row["cause"],
        "made_by": row["made_by"],
        "made_at": _moment(row["made_at"]),
        "occurs_at": _moment(row["occurs_at"]),
        "due_at": _moment(row["due_at"]),
        "closes_at": _moment(row["closes_at"]),
        "at_work": row["lease"] is not None and row["state"] != RunState.WAITING,
        "awaits_person": bool(row["awaits_person"]),
        "on_bench": bool(row["on_bench"]),
        "start_before": _moment(row["start_before"]),
        "started_at": _moment(row["started_at"]),
        "ended_at": _moment(row["ended_at"]),
        "progress": row["progress"] and Progress.model_validate_json(row["progress"]),
        "expected": row["expected"] and Tally.model_validate_json(row["expected"]),
        "removed": row["removed"] and Tally.model_validate_json(row["removed"]),
        "held": row["held"] and Tally.model_validate_json(row["held"]),
        "put_back": row["put_back"] and Tally.model_validate_json(row["put_back"]),
        "freed": row["freed"],
        "survey_id": row["survey_id"],
        "follow_up_survey_id": row["follow_up_survey_id"],
    }


def as_run(row: sqlite3.Row) -> Run:
    return Run(**_fields(row))


def run(conn: Connection, run_id: int) -> Run | None:
    row = conn.execute(f"{RUN} WHERE r.id = ?", (run_id,)).fetchone()
    return as_run(row) if row else None


def is_of(conn: Connection, run_id: int, machine_id: int) -> bool:
    """Whether a run is a machine's."""
    row = conn.execute("SELECT machine_id FROM runs WHERE id = ?", (run_id,)).fetchone()
    return row is not None and row[0] == machine_id


def runs_by_id(conn: Connection, ids: str) -> dict[int, Run]:
    """Chosen runs by number; `ids` is a JSON array."""
    rows = conn.execute(f"{RUN} WHERE r.id IN (SELECT value FROM json_each(?))", (ids,))
    return {row["id"]: as_run(row) for row in rows}


def detail(conn: Connection, run_id: int) -> RunDetail | None:
    """A run with what became of every category and every step."""
    row = conn.execute(f"{RUN} WHERE r.id = ?", (run_id,)).fetchone()
    if row is None:
        return None
    fields = _fields(row)
    takes = step_lengths.expected_on(conn, row["machine_id"])
    fields["steps"] = tuple(
        step.model_copy(update={"expected_seconds": round(takes[step.kind.length_key])})
        if step.kind.length_key in takes else step
        for step in steps.of_run(conn, run_id, row["routine_id"], row["routine_version"])
    )  # fmt: skip
    if row["result"]:
        result = ResultMessage.model_validate_json(_in_terms_of_today(row["result"]))
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
                fields["expected"], result.outcomes, result.before, result.after,
                uncertain=result.uncertain,
            )  # fmt: skip
    return RunDetail(**fields)


def runs(
    conn: Connection,
    *,
    before: int,
    limit: int,
    machine_id: int | None = None,
    round_id: int | None = None,
) -> list[Run]:
    """Runs, newest first, before a number; of one machine, one round, or all."""
    where = "r.id < :before"
    if machine_id is not None:
        where += " AND r.machine_id = :machine"
    if round_id is not None:
        where += " AND r.round_id = :round"
    rows = conn.execute(
        f"{RUN} WHERE {where} ORDER BY r.id DESC LIMIT :limit",
        {"before": before, "machine": machine_id, "round": round_id, "limit": limit},
    )
    return [as_run(row) for row in rows]


def waiting(conn: Connection, *, limit: int) -> list[Run]:
    """What waits for its machine, the soonest first."""
    rows = conn.execute(
        f"{RUN} WHERE r.state = 'waiting' ORDER BY r.due_at, r.id LIMIT ?", (limit,)
    )
    return [as_run(row) for row in rows]


def under_way(conn: Connection, *, limit: int) -> list[Run]:
    """What is offered or runs: what is worked on now before what waits for a person."""
    rows = conn.execute(
        f"""
        {RUN} WHERE r.state IN ('offered', 'running') ORDER BY r.lease_until DESC LIMIT ?
        """,
        (limit,),
    )
    return [as_run(row) for row in rows]


def not_back(
    conn: Connection, machine_ids: Sequence[int], *, before: int
) -> dict[int, tuple[int, datetime]]:
    """Machines that were asked to restart and of which nobody has heard since some time: by
    number, the run and when they were last heard of."""
    rows = conn.execute(
        """
        SELECT r.id, r.machine_id, m.seen_at FROM json_each(?) wanted
        CROSS JOIN runs r ON r.machine_id = wanted.value AND r.state = 'running'
        JOIN machines m ON m.id = r.machine_id
        WHERE m.seen_at < ? AND r.lease_until < ?
          AND (json_extract(r.action, '$.action') = 'restart' OR EXISTS (
              SELECT 1 FROM run_steps s
              WHERE s.run_id = r.id AND s.kind = 'restart' AND s.state = 'under way'))
        """,
        (json.dumps(list(machine_ids)), before, before),
    )
    return {row["machine_id"]: (row["id"], from_seconds(row["seen_at"])) for row in rows}


def by_people_since(
    conn: Connection, since: int, *, client_id: int | None, limit: int
) -> list[Run]:
    """What people had done, not rounds: cleanings and routines that ended since a time."""
    rows = conn.execute(
        f"""
        {RUN} WHERE r.ended_at >= ? AND r.round_id IS NULL AND r.work IN ('clean', 'by hand')
          AND r.started_at IS NOT NULL AND (? IS NULL OR m.client_id = ?)
        ORDER BY r.ended_at DESC LIMIT ?
        """,
        (since, client_id, client_id, limit),
    )
    return [as_run(row) for row in rows]


def ended_since(conn: Connection, since: int, *, limit: int) -> list[Run]:
    """What ended since a time, newest first."""
    rows = conn.execute(
        f"{RUN} WHERE r.ended_at >= ? ORDER BY r.ended_at DESC LIMIT ?", (since, limit)
    )
    return [as_run(row) for row in rows]


def cleanings(conn: Connection, machine_id: int, since: int, until: int) -> list[Run]:
    """Cleanings of a machine that ended in a span, in order."""
    rows = conn.execute(
        f"""
        {RUN} WHERE r.machine_id = ? AND r.work = 'clean'
          AND r.state IN ('done', 'partly') AND r.ended_at BETWEEN ? AND ? ORDER BY r.ended_at
        """,
        (machine_id, since, until),
    )
    return [as_run(row) for row in rows]


def ended_between(
    conn: Connection, machine_id: int, since: int, until: int, *, limit: int
) -> list[int]:
    """Numbers of a machine's runs that ended in a span, the newest first."""
    rows = conn.execute(
        """
        SELECT id FROM runs WHERE machine_id = ? AND ended_at >= ? AND ended_at < ?
        ORDER BY id DESC LIMIT ?
        """,
        (machine_id, since, until, limit),
    )
    return [row[0] for row in rows]


class Waiting(NamedTuple):
    """A run to be made. A round's waits from `due_at` until `until_at`."""

    machine_id: int
    work: Work
    categories: tuple[str, ...]
    who: str
    due_at: int | None = None
    start_before: int | None = None
    round_id: int | None = None
    survey_id: int | None = None
    expected: Tally | None = None
    held_picks: HeldPicks | None = None
    settings: SettingsPicks | None = None
    checks: tuple[str, ...] = ()
    modes: dict[str, str] = {}  # noqa: RUF012
    action: Action | None = None
    routine: tuple[int | None, int | None] = (None, None)
    """Its number and version."""
    volumes: VolumeChoice = ALL_VOLUMES
    on_bench: bool = False
    expected_seconds: int = 0
    """Seconds that it is expected to take."""
    agreed_survey_id: int | None = None
    """The survey whose figures somebody was asked about."""


def add(conn: Connection, run: Waiting, *, at: int) -> int | None:
    """A new waiting run; None where the round's occurrence exists already."""
    due = at if run.due_at is None else run.due_at
    cursor = conn.execute(
        """
        INSERT INTO runs (machine_id, round_id, work, categories, state, made_by, made_at,
                          occurs_at, due_at, closes_at, start_before, survey_id, expected,
                          held_picks,
                          settings, checks, modes, action, routine_id, routine_version, on_bench,
                          expected_seconds, volumes, agreed_survey_id)
        VALUES (?, ?, ?, ?, 'waiting', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        ON CONFLICT DO NOTHING
        """,
        (
            run.machine_id, run.round_id, run.work, json.dumps(run.categories), run.who, at,
            None if run.round_id is None else run.due_at, due, run.start_before,
            run.start_before, run.survey_id, run.expected and run.expected.model_dump_json(),
            run.held_picks and run.held_picks.model_dump_json(),
            run.settings and run.settings.model_dump_json(),
            json.dumps(run.checks) if run.checks else None,
            json.dumps(run.modes) if run.modes else None,
            run.action and run.action.model_dump_json(),
            *run.routine, int(run.on_bench), run.expected_seconds, volumes_as_json(run.volumes),
            run.agreed_survey_id,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0) if cursor.rowcount else None


def _in_terms_of_today(result: str) -> str:
    """A result as schema 35 names its fields. The text itself stays as it came: it is hashed as
    evidence of the run's entry."""
    if '"called_off":' not in result:
        return result
    names = "called_off=cancelled acted=is_action out_of_time=timed_out"
    return renamed_keys(result, names) or ""


def volumes_as_json(choice: VolumeChoice) -> str | None:
    """As it is kept; None for all."""
    return None if choice.is_all else choice.model_dump_json(exclude_defaults=True)


def held_picks(conn: Connection, run_id: int) -> HeldPicks:
    """What a run is to put back or to let go."""
    row = conn.execute("SELECT held_picks FROM runs WHERE id = ?", (run_id,)).fetchone()
    return HeldPicks.model_validate_json(row["held_picks"])


def asked_by(conn: Connection, run_id: int) -> int | None:
    """The survey by whose figures somebody agreed to a cleaning; None: nobody was asked."""
    row = conn.execute("SELECT agreed_survey_id FROM runs WHERE id = ?", (run_id,)).fetchone()
    return None if row is None else row["agreed_survey_id"]


def note_protect_digest(conn: Connection, run_id: int, digest: str) -> None:
    """By which protect list a run looks."""
    conn.execute("UPDATE runs SET protect_digest = ? WHERE id = ?", (digest, run_id))


def protect_digest_of(conn: Connection, run_id: int) -> str | None:
    row = conn.execute("SELECT protect_digest FROM runs WHERE id = ?", (run_id,)).fetchone()
    return None if row is None else row["protect_digest"]


def checks_of(conn: Connection, run_id: int) -> tuple[str, ...]:
    """What a run is to check."""
    row = conn.execute("SELECT checks FROM runs WHERE id = ?", (run_id,)).fetchone()
    return tuple(json.loads(row["checks"] or "[]"))


def modes_of(conn: Connection, run_id: int) -> dict[str, str]:
    """How a run is to check, by check, where not the usual way."""
    row = conn.execute("SELECT modes FROM runs WHERE id = ?", (run_id,)).fetchone()
    return dict(json.loads(row["modes"] or "{}"))


def settings_picks(conn: Connection, run_id: int) -> SettingsPicks:
    """What a run is to change, or to put back."""
    row = conn.execute("SELECT settings FROM runs WHERE id = ?", (run_id,)).fetchone()
    # a routine's run changes what the rules want when its turn comes
    return SettingsPicks.model_validate_json(row["settings"] or "{}")


def has_due(conn: Connection, machine_id: int, *, at: int) -> bool:
    """Whether there is work that a machine might begin now."""
    row = conn.execute(
        """
        SELECT 1 FROM runs
        WHERE machine_id = ? AND state IN ('waiting', 'offered', 'running')
          AND due_at <= ? AND NOT awaits_person AND stop_by IS NULL LIMIT 1
        """,
        (machine_id, at),
    ).fetchone()
    return row is not None


def note_look(
    conn: Connection, run_id: int, survey_id: int, expected: Tally | None, *, second: bool
) -> None:
    """Tie a finished look to its run; a first look tells what to expect."""
    if second:
        conn.execute("UPDATE runs SET follow_up_survey_id = ? WHERE id = ?", (survey_id, run_id))
        return
    conn.execute(
        "UPDATE runs SET survey_id = ?, expected = coalesce(?, expected) WHERE id = ?",
        (survey_id, expected.model_dump_json() if expected else None, run_id),
    )


class Ending(NamedTuple):
    """How a run ended."""

    state: RunState
    reason: str
    result: ResultMessage | None = None
    conclusion: Conclusion | None = None
    cause: str | None = None
    """Why it was missed."""
    worked: int = 0
    """Seconds that the agent was at work on its last part."""


def end(conn: Connection, run_id: int, ending: Ending, *, at: int) -> bool:
    """End a run, once. False when it had ended already."""
    result, conclusion = ending.result, ending.conclusion
    changed = conn.execute(
        """
        UPDATE runs SET state = :state, reason = :reason, ended_at = :at, lease = NULL,
               lease_until = NULL, progress = NULL, result = coalesce(:result, result),
               removed = :removed, held = :held, put_back = :put_back, freed = :freed,
               started_at = coalesce(started_at, :started), cause = :cause,
               worked = worked + :worked, awaits_person = 0
        WHERE id = :run AND state IN ('waiting', 'offered', 'running')
        """,
        {
            "state": ending.state,
            "reason": ending.reason,
            "at": at,
            "result": result and result.model_dump_json(),
            "removed": conclusion and conclusion.removed.model_dump_json(),
            "held": conclusion and conclusion.held.model_dump_json(),
            "put_back": conclusion and conclusion.put_back.model_dump_json(),
            "freed": conclusion and conclusion.freed,
            "cause": ending.cause,
            "worked": ending.worked,
            "started": result and to_seconds(result.started_at),
            "run": run_id,
        },
    )
    return changed.rowcount > 0


def end_part(
    conn: Connection,
    run_id: int,
    *,
    worked: int,
    at_hand: bool,
    result: ResultMessage | None = None,
) -> None:
    """The agent's part is over, and more steps follow; what came of a cleaning is kept."""
    conn.execute(
        """
        UPDATE runs SET state = 'running', lease = NULL, lease_until = NULL, progress = NULL,
               worked = worked + ?, awaits_person = ?, result = coalesce(?, result),
               started_at = coalesce(started_at, ?)
        WHERE id = ?
        """,
        (
            worked, int(at_hand), result and result.model_dump_json(),
            result and to_seconds(result.started_at), run_id,
        ),
    )  # fmt: skip


def wait_by_hand(conn: Connection, run_id: int) -> None:
    """A waiting run begins with a person's step."""
    conn.execute("UPDATE runs SET awaits_person = 1 WHERE id = ?", (run_id,))


def begin_by_hand(conn: Connection, run_id: int, *, at_hand: bool, at: int) -> None:
    """A person has begun on a run's list; whether a person's step comes next."""
    conn.execute(
        """
        UPDATE runs SET state = 'running', started_at = coalesce(started_at, ?), awaits_person = ?
        WHERE id = ?
        """,
        (at, int(at_hand), run_id),
    )


def kept_result(conn: Connection, run_id: int) -> ResultMessage | None:
    """What the agent's part of a run came to, while the run goes on."""
    row = conn.execute("SELECT result FROM runs WHERE id = ?", (run_id,)).fetchone()
    return ResultMessage.model_validate_json(row[0]) if row and row[0] else None


def worked(conn: Connection, run_id: int) -> int:
    """How many seconds the agent has worked on a run."""
    row = conn.execute("SELECT worked FROM runs WHERE id = ?", (run_id,)).fetchone()
    return int(row["worked"])


def at_hand_of(conn: Connection, machine_id: int) -> list[Run]:
    """A machine's open runs in which a person's step comes next."""
    rows = conn.execute(
        f"""
        {RUN} WHERE r.machine_id = ? AND r.state IN ('waiting', 'offered', 'running')
          AND r.awaits_person
        """,
        (machine_id,),
    )
    return [as_run(row) for row in rows]


def note_standing(conn: Connection, run_id: int) -> None:
    """The machine's standing after a run has ended.

    A survey that went well does not make up for a cleaning that failed or was missed.
    """
    conn.execute(
        """
        UPDATE machines SET
            last_run_id = iif(
                r.work = 'clean'
                OR (r.work IN ('survey', 'look at settings', 'check') AND r.state <> 'done')
                OR last.work IN ('survey', 'look at settings', 'check')
                OR last.id IS NULL, r.id, last.id),
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
