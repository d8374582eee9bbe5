"""Rounds: what recurs, which machines belong to it, and when it is due on each."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.values import from_seconds
from phylax.core.scheduling.rounds import Postponed, Round, RoundEdit

_ROUND = """
    SELECT r.*, v.name AS routine_name,
           (SELECT count(*) FROM round_machines m WHERE m.round_id = r.id) AS machines,
           (SELECT min(next_at) FROM round_machines m WHERE m.round_id = r.id) AS next_at
    FROM rounds r JOIN routines v ON v.id = r.routine_id
"""


def _round(row: sqlite3.Row) -> Round:
    plan = RoundEdit.model_validate_json(row["plan"])
    return Round(
        id=row["id"],
        name=row["name"],
        plan=plan,
        routine_name=row["routine_name"],
        how_often=plan.in_words(),
        often=plan.often_in_words(),
        machines=row["machines"],
        next_at=None if row["next_at"] is None else from_seconds(row["next_at"]),
        version=row["version"],
    )


def round_(conn: Connection, round_id: int) -> Round | None:
    row = conn.execute(f"{_ROUND} WHERE r.id = ? AND NOT r.ended", (round_id,)).fetchone()
    return _round(row) if row else None


def rounds(conn: Connection, *, after: int, limit: int) -> list[Round]:
    rows = conn.execute(
        f"{_ROUND} WHERE r.id > ? AND NOT r.ended ORDER BY r.id LIMIT ?", (after, limit)
    )
    return [_round(row) for row in rows]


def of_machine(conn: Connection, machine_id: int) -> list[Round]:
    """A machine's rounds, by when they are due on it."""
    rows = conn.execute(
        """
        SELECT r.*, v.name AS routine_name, m.next_at,
               (SELECT count(*) FROM round_machines o WHERE o.round_id = r.id) AS machines
        FROM round_machines m
        JOIN rounds r ON r.id = m.round_id AND NOT r.ended
        JOIN routines v ON v.id = r.routine_id
        WHERE m.machine_id = ? ORDER BY m.next_at IS NULL, m.next_at, r.id
        """,
        (machine_id,),
    )
    return [_round(row) for row in rows]


def next_ones(conn: Connection, *, limit: int) -> list[Round]:
    """The rounds that fall due next."""
    ids: list[int] = []
    for row in conn.execute(
        "SELECT round_id FROM round_machines WHERE next_at IS NOT NULL ORDER BY next_at"
    ):
        if row["round_id"] not in ids:
            ids.append(row["round_id"])
        if len(ids) == limit:
            break
    known = (round_(conn, round_id) for round_id in ids)
    return [known_round for known_round in known if known_round is not None]


class Member(NamedTuple):
    """A machine of a round, and the round's next time on it. Epoch seconds."""

    round_id: int
    machine_id: int
    client_id: int
    next_at: int | None
    occurs_at: int | None


def due(conn: Connection, *, at: int) -> list[Member]:
    """Where a round's next time has come."""
    rows = conn.execute(
        """
        SELECT o.round_id, o.machine_id, m.client_id, o.next_at, o.occurs_at
        FROM round_machines o JOIN machines m ON m.id = o.machine_id
        WHERE o.next_at IS NOT NULL AND o.next_at <= ?
        """,
        (at,),
    )
    return [Member(*row) for row in rows]


def members(conn: Connection, round_id: int) -> list[Member]:
    rows = conn.execute(
        """
        SELECT o.round_id, o.machine_id, m.client_id, o.next_at, o.occurs_at
        FROM round_machines o JOIN machines m ON m.id = o.machine_id WHERE o.round_id = ?
        """,
        (round_id,),
    )
    return [Member(*row) for row in rows]


def member(conn: Connection, round_id: int, machine_id: int) -> Member | None:
    row = conn.execute(
        """
        SELECT o.round_id, o.machine_id, m.client_id, o.next_at, o.occurs_at
        FROM round_machines o JOIN machines m ON m.id = o.machine_id
        WHERE o.round_id = ? AND o.machine_id = ?
        """,
        (round_id, machine_id),
    ).fetchone()
    return Member(*row) if row else None


def next_due(conn: Connection) -> int | None:
    """When the next round of all falls due."""
    row = conn.execute(
        "SELECT min(next_at) FROM round_machines WHERE next_at IS NOT NULL"
    ).fetchone()
    return row[0] if row else None


class Named(NamedTuple):
    name: str
    routine_name: str
    responsible_id: int | None


def names(conn: Connection, round_ids: Iterable[int]) -> dict[int, Named]:
    """What rounds are called, also those that have ended."""
    rows = conn.execute(
        """
        SELECT r.id, iif(r.ended, json_extract(r.plan, '$.name'), r.name), v.name,
               json_extract(r.plan, '$.responsible_id')
        FROM json_each(?) wanted
        CROSS JOIN rounds r ON r.id = wanted.value
        JOIN routines v ON v.id = r.routine_id
        """,
        (json.dumps(sorted(round_ids)),),
    )
    return {row[0]: Named(*tuple(row)[1:]) for row in rows}


class Change(NamedTuple):
    id: int
    version: int
    changed_at: int


def changes(conn: Connection) -> list[Change]:
    """Version and last change of every round, also of those that have ended."""
    return [Change(*row) for row in conn.execute("SELECT id, version, changed_at FROM rounds")]


def in_common(conn: Connection) -> dict[tuple[int, int], int]:
    """How many machines two rounds share, lower number first."""
    rows = conn.execute(
        """
        SELECT a.round_id, b.round_id, count(*) FROM round_machines a
        JOIN round_machines b ON b.machine_id = a.machine_id AND b.round_id > a.round_id
        GROUP BY 1, 2
        """
    )
    return {(row[0], row[1]): row[2] for row in rows}


def add(conn: Connection, edit: RoundEdit, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO rounds (name, routine_id, plan, changed_by, changed_at)
        VALUES (?, ?, ?, ?, ?)
        """,
        (edit.name, edit.routine_id, edit.model_dump_json(), who, at),
    )
    return int(cursor.lastrowid or 0)


def change(conn: Connection, round_id: int, edit: RoundEdit, *, who: str, at: int) -> None:
    _keep_version(conn, round_id, at)
    conn.execute(
        """
        UPDATE rounds SET name = ?, routine_id = ?, plan = ?, version = version + 1,
               changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (edit.name, edit.routine_id, edit.model_dump_json(), who, at, round_id),
    )


def end(conn: Connection, round_id: int, *, who: str, at: int) -> None:
    """The round recurs no more; its runs and records stay. Its name is free again."""
    _keep_version(conn, round_id, at)
    conn.execute(
        """
        UPDATE rounds SET ended = 1, version = version + 1,
               name = name || ' (ended ' || id || ')', changed_by = ?, changed_at = ? WHERE id = ?
        """,
        (who, at, round_id),
    )
    conn.execute("DELETE FROM round_machines WHERE round_id = ?", (round_id,))


def _keep_version(conn: Connection, round_id: int, at: int) -> None:
    conn.execute(
        "INSERT INTO round_versions SELECT id, version, plan, ? FROM rounds WHERE id = ?",
        (at, round_id),
    )


class FormerRound(NamedTuple):
    """What a round was until it was changed or ended."""

    round_id: int
    version: int
    plan: RoundEdit
    until_at: int


def formers(conn: Connection, *, since: int) -> list[FormerRound]:
    rows = conn.execute(
        "SELECT * FROM round_versions WHERE until_at > ? ORDER BY round_id, version", (since,)
    )
    return [
        FormerRound(
            row["round_id"],
            row["version"],
            RoundEdit.model_validate_json(row["plan"]),
            row["until_at"],
        )
        for row in rows
    ]


def put_members(
    conn: Connection, round_id: int, next_times: Iterable[tuple[int, int | None, int | None]]
) -> None:
    """The machines of a round, all anew: (machine, next_at, occurs_at)."""
    conn.execute("DELETE FROM round_machines WHERE round_id = ?", (round_id,))
    conn.executemany(
        "INSERT INTO round_machines VALUES (?, ?, ?, ?)",
        [(round_id, *times) for times in next_times],
    )


def put_member(
    conn: Connection, round_id: int, machine_id: int, next_at: int | None, occurs_at: int | None
) -> None:
    conn.execute(
        "INSERT OR IGNORE INTO round_machines VALUES (?, ?, ?, ?)",
        (round_id, machine_id, next_at, occurs_at),
    )


def drop_member(conn: Connection, round_id: int, machine_id: int) -> None:
    conn.execute(
        "DELETE FROM round_machines WHERE round_id = ? AND machine_id = ?", (round_id, machine_id)
    )


def set_next(conn: Connection, times: Sequence[tuple[int, int, int | None, int | None]]) -> None:
    """The next times of (round, machine): (round, machine, next_at, occurs_at)."""
    conn.executemany(
        "UPDATE round_machines SET next_at = ?3, occurs_at = ?4"
        " WHERE round_id = ?1 AND machine_id = ?2",
        times,
    )


# --- skipped, held back ---------------------------------------------------------------------------


def postpone(
    conn: Connection, round_id: int, occurs_at: int, asked: Postponed, *, who: str, at: int
) -> None:
    conn.execute(
        "INSERT OR REPLACE INTO postponed VALUES (?, ?, ?, ?, ?, ?, ?)",
        (
            round_id, asked.machine_id, occurs_at,
            None if asked.until is None else int(asked.until.timestamp()), asked.comment, who, at,
        ),
    )  # fmt: skip


class Postponement(NamedTuple):
    until_at: int | None
    """None: skipped."""
    word: str
    who: str

    @property
    def in_words(self) -> str:
        action = "skipped" if self.until_at is None else "held back"
        return f"{action} by {self.who}" + (f": {self.word}" if self.word else "")


def postponed(
    conn: Connection, round_id: int, machine_ids: Sequence[int], occurs_at: int
) -> dict[int, Postponement]:
    """What was said of one time of a round, by machine."""
    rows = conn.execute(
        """
        SELECT p.machine_id, p.until_at, p.comment, p.who FROM json_each(?) wanted
        CROSS JOIN postponed p ON p.round_id = ? AND p.machine_id = wanted.value AND p.occurs_at = ?
        """,
        (json.dumps(list(machine_ids)), round_id, occurs_at),
    )
    return {row[0]: Postponement(row[1], row[2], row[3]) for row in rows}


def skipped_from(conn: Connection, round_id: int, since: int) -> dict[int, set[int]]:
    """Which machines skip a coming time of a round, by that time."""
    rows = conn.execute(
        """
        SELECT occurs_at, machine_id FROM postponed
        WHERE round_id = ? AND occurs_at >= ? AND until_at IS NULL
        """,
        (round_id, since),
    )
    skips: dict[int, set[int]] = {}
    for occurs_at, machine_id in rows:
        skips.setdefault(occurs_at, set()).add(machine_id)
    return skips
