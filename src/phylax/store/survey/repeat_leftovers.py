"""What should have gone and was left by one cleaning after the other."""

from __future__ import annotations

import json
from collections.abc import Iterable
from sqlite3 import Connection

from phylax.core.attention import OftenLeft
from phylax.core.ground.values import from_seconds
from phylax.core.protocol import LeftItem


def note(
    conn: Connection,
    machine_id: int,
    run_id: int,
    categories: Iterable[str],
    left: Iterable[LeftItem],
    *,
    all_named: bool,
    at: int,
) -> None:
    """Count what a cleaning left; what went this time is forgotten.

    `all_named` says that `left` names all that was left, not only the first of it.
    """
    conn.executemany(
        """
        INSERT INTO repeat_leftovers
            (machine_id, category, place, path, reason, size, occurrences, since, run_id)
        VALUES (?, ?, ?, ?, ?, ?, 1, ?, ?)
        ON CONFLICT DO UPDATE SET
            occurrences = repeat_leftovers.occurrences + (repeat_leftovers.run_id <>
            excluded.run_id),
            reason = excluded.reason, size = excluded.size, run_id = excluded.run_id
        """,
        [
            (machine_id, item.category, item.place, item.path, item.reason, item.size, at, run_id)
            for item in left
        ],
    )
    if all_named:
        conn.execute(
            """
            DELETE FROM repeat_leftovers
            WHERE machine_id = ? AND run_id <> ?
              AND category IN (SELECT value FROM json_each(?))
            """,
            (machine_id, run_id, json.dumps(list(categories))),
        )


def often(conn: Connection) -> dict[int, OftenLeft]:
    """By machine: what was left five times or more."""
    rows = conn.execute(
        """
        SELECT machine_id, count(*) AS items, cast(total(size) AS INTEGER) AS size,
               min(since) AS since,
               max(occurrences) AS occurrences, min(path) AS path, min(reason) AS reason
        FROM repeat_leftovers WHERE occurrences >= 5 GROUP BY machine_id
        """
    )
    return {
        row["machine_id"]: OftenLeft(
            items=row["items"],
            size=row["size"],
            since=from_seconds(row["since"]),
            times=row["occurrences"],
            path=row["path"],
            reason=row["reason"],
        )
        for row in rows
    }
