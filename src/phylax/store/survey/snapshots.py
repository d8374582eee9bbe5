"""How machines stood before runs, and after."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Literal

from phylax.core.protocol.snapshots import Comparison, Snapshot, compared


def put(
    conn: Connection, run_id: int, when: Literal["before", "after"], snapshot: Snapshot
) -> None:
    """Keep a snapshot: the first before anything changed, the last afterwards."""
    text = snapshot.model_dump_json(exclude_defaults=True)
    if when == "before":
        conn.execute(
            "INSERT INTO snapshots (run_id, before) VALUES (?, ?) ON CONFLICT DO NOTHING",
            (run_id, text),
        )
    else:
        conn.execute("UPDATE snapshots SET after = ? WHERE run_id = ?", (text, run_id))


def comparison(conn: Connection, run_id: int) -> Comparison | None:
    """What a run changed; None where nobody looked before it."""
    row = conn.execute("SELECT * FROM snapshots WHERE run_id = ?", (run_id,)).fetchone()
    if row is None:
        return None
    after = row["after"] and Snapshot.model_validate_json(row["after"])
    return compared(run_id, Snapshot.model_validate_json(row["before"]), after or None)
