"""What became of actions, part by part."""

from __future__ import annotations

from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.actions import ActionPart


def put(
    conn: Connection,
    run_id: int,
    machine_id: int,
    action: str,
    parts: Sequence[ActionPart],
    *,
    at: int,
) -> None:
    """Keep what a machine says became of an action; said anew of the same, the newest counts."""
    conn.executemany(
        "INSERT OR REPLACE INTO action_results VALUES (?, ?, ?, ?, ?, ?)",
        [
            (
                run_id,
                machine_id,
                action,
                part.target,
                part.model_dump_json(exclude_defaults=True),
                at,
            )
            for part in parts
        ],
    )


def of_run(conn: Connection, run_id: int, action: str | None = None) -> list[ActionPart]:
    """What became of a run's actions, or of one of them."""
    rows = conn.execute(
        "SELECT part FROM action_results WHERE run_id = ? AND (?2 IS NULL OR action = ?2)"
        " ORDER BY action, target",
        (run_id, action),
    )
    return [ActionPart.model_validate_json(row["part"]) for row in rows]


def newest(conn: Connection, machine_id: int, action: str, of: str) -> ActionPart | None:
    """What an action last came to, of one volume or program."""
    row = conn.execute(
        """
        SELECT part FROM action_results WHERE machine_id = ? AND action = ? AND target = ?
        ORDER BY at DESC, run_id DESC LIMIT 1
        """,
        (machine_id, action, of),
    ).fetchone()
    return ActionPart.model_validate_json(row["part"]) if row else None
