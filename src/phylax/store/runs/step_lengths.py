"""How long steps and actions took on machines: what the time left and the estimates learn from."""

from __future__ import annotations

import json
from sqlite3 import Connection

from phylax.core.checks.time_left import Ran, expected

KEPT = 5


def note(conn: Connection, machine_id: int, step: str, ran: Ran) -> None:
    recent = [list(ran), *map(list, earlier(conn, machine_id, step))][:KEPT]
    conn.execute(
        "INSERT OR REPLACE INTO step_lengths VALUES (?, ?, ?)",
        (machine_id, step, json.dumps(recent)),
    )


def earlier(conn: Connection, machine_id: int, step: str) -> tuple[Ran, ...]:
    """The last times, newest first."""
    row = conn.execute(
        "SELECT recent FROM step_lengths WHERE machine_id = ? AND step = ?", (machine_id, step)
    ).fetchone()
    return tuple(Ran(*ran) for ran in json.loads(row["recent"])) if row else ()


def expected_on(conn: Connection, machine_id: int) -> dict[str, float]:
    """Seconds that steps are expected to take on a machine, where that is known."""
    rows = conn.execute("SELECT step, recent FROM step_lengths WHERE machine_id = ?", (machine_id,))
    known = {row["step"]: [Ran(*ran) for ran in json.loads(row["recent"])] for row in rows}
    lengths = {step: expected(runs) for step, runs in known.items()}
    return {step: seconds for step, seconds in lengths.items() if seconds is not None}
