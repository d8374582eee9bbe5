"""What became of actions, part by part."""

from __future__ import annotations

from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.actions import ActedPart


def put(
    conn: Connection,
    run_id: int,
    machine_id: int,
    action: str,
    parts: Sequence[ActedPart],
    *,
    at: int,
) -> None:
    """Keep what a machine says became of an action; said anew of the same, the newest counts."""
    conn.executemany(
        "INSERT OR REPLACE INTO acted VALUES (?, ?, ?, ?, ?, ?)",
        [
            (run_id, machine_id, action, part.of, part.model_dump_json(exclude_defaults=True), at)
            for part in parts
        ],
    )


def of_run(conn: Connection, run_id: int, action: str | None = None) -> list[ActedPart]:
    """What became of a run's actions, or of one of them."""
    rows = conn.execute(
        "SELECT part FROM acted WHERE run_id = ? AND (?2 IS NULL OR action = ?2)"
        " ORDER BY action, of_what",
        (run_id, action),
    )
    return [ActedPart.model_validate_json(row["part"]) for row in rows]


def newest(conn: Connection, machine_id: int, action: str, of: str) -> ActedPart | None:
    """What an action last came to, of one volume or program."""
    row = conn.execute(
        """
        SELECT part FROM acted WHERE machine_id = ? AND action = ? AND of_what = ?
        ORDER BY at DESC, run_id DESC LIMIT 1
        """,
        (machine_id, action, of),
    ).fetchone()
    return ActedPart.model_validate_json(row["part"]) if row else None
