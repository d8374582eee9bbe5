"""What checks of machines came to."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.checks.findings import Checked
from phylax.core.checks.kept import StoredCheck
from phylax.core.checks.time_left import Ran
from phylax.core.ground.values import from_seconds, to_seconds

_NEWEST = """
    SELECT c.* FROM json_each(?1) wanted CROSS JOIN checks c ON c.machine_id = wanted.value
    WHERE c.id = (
        SELECT id FROM checks n
        WHERE n.machine_id = c.machine_id AND n.check_key = c.check_key AND n.mode = c.mode
          AND n.target = c.target
          AND (NOT ?2 OR n.result <> 'could not look')
        ORDER BY n.ended_at DESC, n.id DESC LIMIT 1)
    ORDER BY c.check_key, c.mode, c.target
"""


def add(conn: Connection, machine_id: int, run_id: int, checked: Checked) -> None:
    """What a machine says of one check; said twice, it counts once."""
    conn.execute(
        """
        INSERT INTO checks (machine_id, run_id, check_key, mode, target, result, checked, units,
                            seconds, ended_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING
        """,
        (machine_id, run_id, checked.check, checked.mode, checked.target, checked.result,
         checked.model_dump_json(exclude_defaults=True), checked.units,
         (checked.ended_at - checked.started_at).total_seconds(), to_seconds(checked.ended_at)),
    )  # fmt: skip


def newest(
    conn: Connection, machine_ids: Sequence[int], *, could_look: bool = False
) -> list[StoredCheck]:
    """The newest check of each kind, volume and disk of some machines; or the newest that could
    look."""
    rows = conn.execute(_NEWEST, (json.dumps(list(machine_ids)), int(could_look)))
    return [_kept(row) for row in rows]


def before(conn: Connection, machine_id: int, check: str, of: str) -> StoredCheck | None:
    """The last check of a volume or disk that could look."""
    row = conn.execute(
        """
        SELECT * FROM checks
        WHERE machine_id = ? AND check_key = ? AND target = ? AND result <> 'could not look'
        ORDER BY ended_at DESC, id DESC LIMIT 1
        """,
        (machine_id, check, of),
    ).fetchone()
    return _kept(row) if row else None


def earlier(conn: Connection, machine_id: int, check: str, mode: str) -> tuple[Ran, ...]:
    """How long a check took the last times that it could look."""
    rows = conn.execute(
        """
        SELECT units, seconds FROM checks
        WHERE machine_id = ? AND check_key = ? AND mode = ? AND result <> 'could not look'
          AND target = '' AND seconds > 0
        ORDER BY ended_at DESC LIMIT 5
        """,
        (machine_id, check, mode),
    )
    return tuple(Ran(row["units"], row["seconds"]) for row in rows)


def of_run(conn: Connection, run_id: int) -> list[StoredCheck]:
    rows = conn.execute("SELECT * FROM checks WHERE run_id = ? ORDER BY id", (run_id,))
    return [_kept(row) for row in rows]


def check(conn: Connection, number: int) -> StoredCheck | None:
    row = conn.execute("SELECT * FROM checks WHERE id = ?", (number,)).fetchone()
    return _kept(row) if row else None


def settle(conn: Connection, number: int, *, who: str, word: str, at: int) -> None:
    """Somebody has dealt with what was found."""
    conn.execute(
        "UPDATE checks SET settled_at = ?, settled_by = ?, settled_comment = ? WHERE id = ?",
        (at, who, word, number),
    )


def _kept(row: sqlite3.Row) -> StoredCheck:
    return StoredCheck(
        id=row["id"],
        machine_id=row["machine_id"],
        run_id=row["run_id"],
        checked=Checked.model_validate_json(row["checked"]),
        settled_at=None if row["settled_at"] is None else from_seconds(row["settled_at"]),
        settled_by=row["settled_by"],
        settled_comment=row["settled_comment"],
    )
