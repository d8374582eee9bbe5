"""Startup programs on machines, as it was read last."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence, Set
from functools import lru_cache
from sqlite3 import Connection
from typing import NamedTuple

from pydantic import TypeAdapter

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.protocol.clocks import TOLERATED
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.programs import Program
from phylax.core.tuning.verdicts import Seen

_MAY_SHIFT = 2 * TOLERATED
"""Seconds by which a later look may seem to be earlier: a clock that is off is put right from a
tolerated difference on, and looks come in their order."""
_SEEN = TypeAdapter(tuple[Seen, ...])


def keep_look(conn: Connection, machine_id: int, look: SettingsSurvey) -> bool:
    """Keep a survey, unless it is older than the one that is kept. What could not be read replaces
    nothing that was."""
    at = to_seconds(look.taken_at)
    kept = conn.execute(
        """
        INSERT INTO settings_surveys (machine_id, taken_at, unread, seen) VALUES (?1, ?2, ?3, ?4)
        ON CONFLICT (machine_id) DO UPDATE SET taken_at = ?2, unread = ?3,
            seen = iif(?3 = '', ?4, seen) WHERE taken_at <= ?2 + ?5
        """,
        (machine_id, at, look.unread, _SEEN.dump_json(look.values).decode(), _MAY_SHIFT),
    ).rowcount
    if not kept or look.unread:
        return bool(kept)
    before = conn.execute(
        "DELETE FROM machine_programs WHERE machine_id = ? RETURNING program_id", (machine_id,)
    ).fetchall()
    for program in look.programs:
        read_as = program.model_dump_json(exclude_defaults=True)
        row = conn.execute(
            """
            INSERT INTO programs (key, read_as) VALUES (?, ?)
            ON CONFLICT (read_as) DO UPDATE SET key = key RETURNING id
            """,
            (program.key, read_as),
        ).fetchone()
        conn.execute("INSERT OR IGNORE INTO machine_programs VALUES (?, ?)", (machine_id, row[0]))
    conn.executemany(
        """
        DELETE FROM programs WHERE id = ?1
            AND NOT EXISTS (SELECT 1 FROM machine_programs WHERE program_id = ?1)
        """,
        [(row[0],) for row in before],
    )
    return True


def look(conn: Connection, machine_id: int) -> SettingsSurvey | None:
    """A machine's newest survey at its settings."""
    row = conn.execute(
        "SELECT taken_at, unread, seen FROM settings_surveys WHERE machine_id = ?", (machine_id,)
    ).fetchone()
    if row is None:
        return None
    rows = conn.execute(
        """
        SELECT p.read_as FROM machine_programs m JOIN programs p ON p.id = m.program_id
        WHERE m.machine_id = ? ORDER BY p.key
        """,
        (machine_id,),
    )
    return SettingsSurvey(
        taken_at=from_seconds(row["taken_at"]),
        unread=row["unread"],
        programs=tuple(_program(read[0]) for read in rows),
        values=_SEEN.validate_json(row["seen"]),
    )


def seen_everywhere(conn: Connection, keys: Set[str]) -> dict[str, list[tuple[int, Seen]]]:
    """Some settings of one value as every machine's newest survey found them, by key."""
    rows = conn.execute(
        """
        SELECT s.machine_id, one.value FROM settings_surveys s, json_each(s.seen) one
        WHERE one.value ->> 'key' IN (SELECT value FROM json_each(?)) ORDER BY s.machine_id
        """,
        (json.dumps(sorted(keys)),),
    )
    by_key: dict[str, list[tuple[int, Seen]]] = {}
    for machine_id, text in rows:
        seen = _seen(text)
        by_key.setdefault(seen.key, []).append((machine_id, seen))
    return by_key


def note_waiting(conn: Connection, machine_id: int, number: int) -> None:
    """How many programs a round has left to a person, when it came by."""
    conn.execute(
        "UPDATE settings_surveys SET waiting = ? WHERE machine_id = ?", (number, machine_id)
    )


def waiting(conn: Connection, machine_ids: Sequence[int]) -> dict[int, int]:
    """How many programs of each machine wait for a person; machines without any are left out."""
    rows = conn.execute(
        """
        SELECT s.machine_id, s.waiting FROM json_each(?) wanted
        JOIN settings_surveys s ON s.machine_id = wanted.value AND s.waiting > 0
        """,
        (json.dumps(list(machine_ids)),),
    )
    return {row[0]: row[1] for row in rows}


def on_machines(conn: Connection, is_meant: Callable[[Program], bool]) -> dict[int, list[Program]]:
    """Programs that are meant, by machine; one that was read alike is one object."""
    by_machine: dict[int, list[Program]] = {}
    for program_id, read_as in conn.execute("SELECT id, read_as FROM programs"):
        program = _program(read_as)
        if is_meant(program):
            for row in conn.execute(
                "SELECT machine_id FROM machine_programs WHERE program_id = ?", (program_id,)
            ):
                by_machine.setdefault(row[0], []).append(program)
    return by_machine


class Spread(NamedTuple):
    """Where a program as it was read is."""

    number: int
    program: Program
    machines: int
    clients: frozenset[int]


def over_the_shop(conn: Connection) -> list[Spread]:
    """Every program as it was read, of most machines first."""
    rows = conn.execute(
        """
        SELECT p.id, p.read_as, count(*), group_concat(DISTINCT m.client_id)
        FROM machine_programs mp
        JOIN programs p ON p.id = mp.program_id JOIN machines m ON m.id = mp.machine_id
            AND m.retired_at IS NULL
        GROUP BY p.id ORDER BY count(*) DESC, p.key
        """
    )
    return [
        Spread(row[0], _program(row[1]), row[2], frozenset(map(int, row[3].split(","))))
        for row in rows
    ]


def machines_with(conn: Connection, spreads: Sequence[Spread]) -> int:
    """On how many machines one or another of some programs is."""
    if len(spreads) == 1:
        return spreads[0].machines
    numbers = json.dumps([spread.number for spread in spreads])
    row = conn.execute(
        """
        SELECT count(DISTINCT machine_id) FROM machine_programs
        WHERE program_id IN (SELECT value FROM json_each(?))
        """,
        (numbers,),
    ).fetchone()
    return int(row[0])


def some_tags(conn: Connection, number: int, most: int) -> list[str]:
    """Tags of some machines on which a program, as it was read, is."""
    rows = conn.execute(
        """
        SELECT m.tag FROM machine_programs mp JOIN machines m ON m.id = mp.machine_id
        WHERE mp.program_id = ? ORDER BY m.id LIMIT ?
        """,
        (number, most),
    )
    return [row[0] for row in rows]


@lru_cache(maxsize=20_000)
def _seen(text: str) -> Seen:
    """Read once for all machines on which it is the same, so that it is one object."""
    return Seen.model_validate_json(text)


@lru_cache(maxsize=20_000)
def _program(read_as: str) -> Program:
    return Program.model_validate_json(read_as)
