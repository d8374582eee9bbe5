"""Occurrences of rounds: made once, moved from window to window, missed for a reason."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.runs.runs import Run, Work
from phylax.core.scheduling.missed import Between
from phylax.core.scheduling.timing import Stretch
from phylax.store.runs.runs import RUN, as_run, volumes_as_json


def missed_since(conn: Connection, since: int, *, limit: int) -> list[Run]:
    """What was missed since a time, newest first."""
    rows = conn.execute(
        f"{RUN} WHERE r.ended_at >= ? AND r.state = 'missed' ORDER BY r.ended_at DESC LIMIT ?",
        (since, limit),
    )
    return [as_run(row) for row in rows]


class OccurrenceCount(NamedTuple):
    """How many runs of one time of a round, at one client, are in one state."""

    round_id: int
    occurs_at: int
    client_id: int
    state: str
    runs: int
    due_at: int
    ended_at: int | None


def of_occurrences(conn: Connection, since: int, until: int) -> list[OccurrenceCount]:
    """The rounds' times in a span, by client and state."""
    rows = conn.execute(
        """
        SELECT r.round_id, r.occurs_at, m.client_id, r.state, count(*) AS runs,
               min(r.due_at) AS due_at, max(r.ended_at) AS ended_at
        FROM runs r JOIN machines m ON m.id = r.machine_id
        WHERE r.round_id IS NOT NULL AND r.occurs_at >= ? AND r.occurs_at < ?
        GROUP BY 1, 2, 3, 4
        """,
        (since, until),
    )
    return [OccurrenceCount(*row) for row in rows]


class Occurring(NamedTuple):
    """A round's run on one machine, as it is made."""

    machine_id: int
    occurs_at: int
    stretches: str
    """JSON: [[opens, closes, end by], …]"""
    due_at: int
    closes_at: int
    start_before: int
    expected_seconds: int


def add_occurrences(
    conn: Connection,
    round_id: int,
    name: str,
    routine: tuple[int, int],
    work: Work,
    categories: tuple[str, ...],
    made: Sequence[Occurring],
    *,
    at: int,
    at_hand: bool,
    volumes: VolumeChoice = ALL_VOLUMES,
) -> None:
    """The waiting runs of a round's time; those that exist already are left as they are."""
    listed, chosen = json.dumps(categories), volumes_as_json(volumes)
    conn.executemany(
        """
        INSERT INTO runs (round_id, routine_id, routine_version, work, categories, state, made_by,
                          made_at, awaits_person, machine_id, occurs_at, stretches, due_at,
                          closes_at,
                          start_before, expected_seconds, volumes)
        VALUES (?, ?, ?, ?, ?, 'waiting', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING
        """,
        [
            (round_id, *routine, work, listed, name, at, int(at_hand), *occurring, chosen)
            for occurring in made
        ],
    )


def of_round(conn: Connection, round_id: int, machine_ids: Sequence[int]) -> dict[int, list[Run]]:
    """A round's runs that have not ended, by machine."""
    runs_by_occurrence: dict[int, list[Run]] = {}
    for row in conn.execute(
        f"""
        {RUN} WHERE r.round_id IS NOT NULL AND r.state IN ('waiting', 'offered', 'running')
          AND r.round_id = ? AND r.machine_id IN (SELECT value FROM json_each(?))
        """,
        (round_id, json.dumps(list(machine_ids))),
    ):
        runs_by_occurrence.setdefault(row["machine_id"], []).append(as_run(row))
    return runs_by_occurrence


def run_of_occurrence(
    conn: Connection, round_id: int, machine_id: int, occurs_at: int
) -> Run | None:
    row = conn.execute(
        f"{RUN} WHERE r.round_id = ? AND r.machine_id = ? AND r.occurs_at = ?",
        (round_id, machine_id, occurs_at),
    ).fetchone()
    return as_run(row) if row else None


def newest_occurrence(conn: Connection, round_id: int, machine_id: int) -> int | None:
    """The newest of a round's times that was made on a machine."""
    row = conn.execute(
        "SELECT max(occurs_at) FROM runs WHERE round_id = ? AND machine_id = ?",
        (round_id, machine_id),
    ).fetchone()
    return row[0] if row else None


class Closing(NamedTuple):
    """A waiting run whose window has closed."""

    id: int
    machine_id: int
    stretches: str | None


def closing(conn: Connection, *, at: int) -> list[Closing]:
    rows = conn.execute(
        """
        SELECT id, machine_id, stretches FROM runs
        WHERE state = 'waiting' AND closes_at IS NOT NULL AND closes_at < ?
        """,
        (at,),
    )
    return [Closing(*row) for row in rows]


def next_closing(conn: Connection) -> int | None:
    """When the next window closes on a run that waits."""
    row = conn.execute(
        "SELECT min(closes_at) FROM runs WHERE state = 'waiting' AND closes_at IS NOT NULL"
    ).fetchone()
    return row[0] if row else None


def move_on(conn: Connection, run_id: int, due_at: int, closes_at: int) -> None:
    """A run waits for a later window."""
    conn.execute(
        "UPDATE runs SET due_at = ?, closes_at = ? WHERE id = ?", (due_at, closes_at, run_id)
    )


def hold_back(
    conn: Connection, run_id: int, due_at: int, closes_at: int, until_at: int, stretches: str
) -> None:
    """A waiting run waits for other windows than it was made with."""
    conn.execute(
        "UPDATE runs SET due_at = ?, closes_at = ?, start_before = ?, stretches = ? WHERE id = ?",
        (due_at, closes_at, until_at, stretches, run_id),
    )


class Facts(NamedTuple):
    """What is known of a missed run, to say why."""

    machine_id: int
    stretches: tuple[Stretch, ...]
    due_at: int
    held_up: str | None


def facts(conn: Connection, run_id: int) -> Facts:
    row = conn.execute(
        "SELECT machine_id, stretches, due_at, start_before, held_up FROM runs WHERE id = ?",
        (run_id,),
    ).fetchone()
    return Facts(row["machine_id"], _stretches(row), row["due_at"], row["held_up"])


def _stretches(row: sqlite3.Row) -> tuple[Stretch, ...]:
    if row["stretches"] is None:
        until = row["start_before"] or row["due_at"]
        return (Stretch(row["due_at"], until, None),)
    return stretches_in(row["stretches"])


def stretches_in(text: str) -> tuple[Stretch, ...]:
    return tuple(Stretch(*stretch) for stretch in json.loads(text))


def worked_between(
    conn: Connection, machine_id: int, since: int, until: int, *, but: int
) -> list[Between]:
    """When a machine did other work, of its last runs."""
    rows = conn.execute(
        """
        SELECT started_at, coalesce(ended_at, ?) AS ended FROM runs
        WHERE machine_id = ? AND id <> ? AND started_at IS NOT NULL AND NOT awaits_person
        ORDER BY id DESC LIMIT 40
        """,
        (until, machine_id, but),
    )
    return [
        Between(row["started_at"], row["ended"])
        for row in rows
        if row["started_at"] < until and row["ended"] > since
    ]


def presumed_off(conn: Connection, machine_id: int, since: int) -> list[tuple[int, Facts]]:
    """Missed runs of a machine that was presumed off, of which it may tell more."""
    rows = conn.execute(
        """
        SELECT id, machine_id, stretches, due_at, start_before, held_up FROM runs
        WHERE machine_id = ? AND cause = 'off' AND start_before > ?
        """,
        (machine_id, since),
    )
    return [
        (row["id"], Facts(row["machine_id"], _stretches(row), row["due_at"], None)) for row in rows
    ]


def correct_cause(conn: Connection, run_id: int, cause: str, reason: str) -> None:
    conn.execute("UPDATE runs SET cause = ?, reason = ? WHERE id = ?", (cause, reason, run_id))
