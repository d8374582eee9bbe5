"""When machines were heard of, by the hour; and when the service itself was not awake."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from sqlite3 import Connection

from phylax.core.scheduling.missed import Between
from phylax.core.scheduling.presence import place_of

_WEEK_BYTES = 21
_WEEKS_KEPT = 26
_SLEEPS_KEPT = 16 * 86400
_AWAKE_TO_WITHIN = 60
"""The scheduler notes that it is awake at least so often, in seconds."""
_ASLEEP_AFTER = 180


def note(conn: Connection, machine_id: int, moments: Iterable[int]) -> None:
    """A machine was on at these moments, in epoch seconds."""
    by_week: dict[int, int] = {}
    for at in moments:
        week, bit = place_of(at)
        by_week[week] = by_week.get(week, 0) | bit
    for week, bits in by_week.items():
        row = conn.execute(
            "SELECT hours FROM presence WHERE machine_id = ? AND week = ?", (machine_id, week)
        ).fetchone()
        known = int.from_bytes(row["hours"], "little") if row else 0
        if known | bits == known:
            continue
        conn.execute(
            "INSERT OR REPLACE INTO presence VALUES (?, ?, ?)",
            (machine_id, week, (known | bits).to_bytes(_WEEK_BYTES, "little")),
        )
        if row is None:
            conn.execute(
                "DELETE FROM presence WHERE machine_id = ? AND week < ?",
                (machine_id, week - _WEEKS_KEPT),
            )


def weeks(conn: Connection, machine_ids: Sequence[int]) -> dict[int, dict[int, int]]:
    """The hours of the last weeks, by machine and week."""
    weeks_of: dict[int, dict[int, int]] = {machine_id: {} for machine_id in machine_ids}
    for row in conn.execute(
        """
        SELECT p.machine_id, p.week, p.hours FROM json_each(?) wanted
        CROSS JOIN presence p ON p.machine_id = wanted.value
        """,
        (json.dumps(list(machine_ids)),),
    ):
        weeks_of[row["machine_id"]][row["week"]] = int.from_bytes(row["hours"], "little")
    return weeks_of


def note_sleeps(conn: Connection, machine_id: int, slept: Sequence[Between], *, at: int) -> None:
    """A machine has told when it slept."""
    if not slept:
        return
    conn.executemany(
        "INSERT OR IGNORE INTO sleeps VALUES (?, ?, ?)",
        [(machine_id, *stretch) for stretch in slept],
    )
    conn.execute(
        "DELETE FROM sleeps WHERE machine_id = ? AND began_at < ?",
        (machine_id, at - _SLEEPS_KEPT),
    )


def sleeps(conn: Connection, machine_id: int, since: int, until: int) -> list[Between]:
    rows = conn.execute(
        "SELECT began_at, ended_at FROM sleeps WHERE machine_id = ? AND began_at < ?"
        " AND ended_at > ? ORDER BY began_at",
        (machine_id, until, since),
    )
    return [Between(*row) for row in rows]


# --- the service itself --------------------------------------------------------------------------


def awake_at(conn: Connection) -> int | None:
    row = conn.execute("SELECT awake_at FROM shop").fetchone()
    return row["awake_at"] if row else None


def note_awake(conn: Connection, *, at: int) -> None:
    """The scheduler is awake. A longer silence before was an outage, and is kept as one."""
    before = awake_at(conn)
    if before is not None and at - before > _ASLEEP_AFTER:
        conn.execute("INSERT OR IGNORE INTO outages VALUES (?, ?)", (before, at))
    conn.execute("UPDATE shop SET awake_at = ?", (at,))


def awake_note_is_due(conn: Connection, *, at: int) -> bool:
    before = awake_at(conn)
    # a clock that was put back must not keep the scheduler silent
    return before is None or not 0 <= at - before < _AWAKE_TO_WITHIN


def outages(conn: Connection, since: int, until: int) -> list[Between]:
    """When the service was down, in a span."""
    rows = conn.execute(
        "SELECT began_at, ended_at FROM outages WHERE began_at < ? AND ended_at > ?"
        " AND began_at > ? ORDER BY began_at",
        (until, since, since - 400 * 86400),
    )
    return [Between(row["began_at"], row["ended_at"]) for row in rows]
