"""How machines stand: what attention looks at, read without walking any history."""

from __future__ import annotations

import json
import sqlite3

from phylax.core.attention import SILENT_AFTER, Standing
from phylax.core.survey import Tally
from phylax.core.values import from_seconds
from phylax.store import left_again, runs, shop

Connection = sqlite3.Connection


def standings(conn: Connection, *, at: int, threshold_percent: int) -> list[Standing]:
    """The machines of which something might need a person."""
    rows = conn.execute(
        """
        SELECT m.id, m.can_go, m.waits_for_yes, m.looked_at, m.last_run_id, m.missed_in_a_row
        FROM machines m LEFT JOIN runs r ON r.id = m.last_run_id
        WHERE m.seen_at < :silent
           OR r.state IN ('failed', 'missed', 'partly')
           OR EXISTS (SELECT 1 FROM left_again l WHERE l.machine_id = m.id AND l.times >= 5)
           OR json_extract(m.waits_for_yes, '$.count') > 0
           OR EXISTS (SELECT 1 FROM volumes v WHERE v.machine_id = m.id
                      AND 100 * (v.capacity - v.free) > :threshold * v.capacity)
        """,
        {"silent": at - int(SILENT_AFTER.total_seconds()), "threshold": threshold_percent},
    ).fetchall()
    machines = {m.id: m for m in shop.machines_by_id(conn, [row["id"] for row in rows])}
    left = left_again.often(conn)
    last = runs.runs_by_id(conn, json.dumps([row["last_run_id"] for row in rows]))
    return [
        Standing(
            machine=machines[row["id"]],
            now=from_seconds(at),
            threshold_percent=threshold_percent,
            last_run=last.get(row["last_run_id"]),
            missed_in_a_row=row["missed_in_a_row"],
            can_go=row["can_go"] and Tally.model_validate_json(row["can_go"]),
            waits_for_yes=row["waits_for_yes"] and Tally.model_validate_json(row["waits_for_yes"]),
            looked_at=row["looked_at"] and from_seconds(row["looked_at"]),
            left_often=left.get(row["id"]),
        )
        for row in rows
    ]
