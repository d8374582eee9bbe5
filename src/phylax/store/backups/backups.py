"""The plan of backups, and what became of each."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.backups.backups import Backup, BackupPlan, BackupPlanEdit
from phylax.core.ground.values import from_seconds, to_seconds


def plan(conn: Connection) -> BackupPlan:
    row = conn.execute("SELECT * FROM backup_plan").fetchone()
    return BackupPlan.model_validate({name: row[name] for name in BackupPlan.model_fields})


def plan_changed(conn: Connection) -> tuple[str, int]:
    """By whom and when."""
    row = conn.execute("SELECT changed_by, changed_at FROM backup_plan").fetchone()
    return row[0], row[1]


def put_plan(conn: Connection, edit: BackupPlanEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE backup_plan SET place = :place, hour = :hour, daily = :daily, weekly = :weekly,
            monthly = :monthly, public_key = :public_key,
            version = version + 1, changed_by = :who, changed_at = :at
        """,
        edit.model_dump() | {"who": who, "at": at},
    )


def add(conn: Connection, backup: Backup) -> int:
    """What became of one; its own number counts for nothing."""
    cursor = conn.execute(
        """
        INSERT INTO backups (at, name, place, size, seconds, entries, head, why, made_by)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            to_seconds(backup.at), backup.name, backup.place, backup.size, backup.seconds,
            backup.entries, backup.head, backup.why[:1000], backup.made_by,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def _backup(row: sqlite3.Row) -> Backup:
    fields = {name: row[name] for name in Backup.model_fields}
    times = {n: None if row[n] is None else from_seconds(row[n]) for n in ("at", "gone_at")}
    return Backup.model_validate(fields | times)


def listed(conn: Connection, *, most: int) -> list[Backup]:
    """The newest first, those that came to nothing too."""
    rows = conn.execute("SELECT * FROM backups ORDER BY id DESC LIMIT ?", (most,))
    return [_backup(row) for row in rows]


def good(conn: Connection) -> list[Backup]:
    """Those that are there, the newest first."""
    rows = conn.execute(
        "SELECT * FROM backups WHERE why = '' AND gone_at IS NULL ORDER BY at DESC, id DESC"
    )
    return [_backup(row) for row in rows]


def last(conn: Connection) -> Backup | None:
    row = conn.execute("SELECT * FROM backups ORDER BY id DESC LIMIT 1").fetchone()
    return _backup(row) if row else None


def note_gone(conn: Connection, backup_id: int, *, at: int) -> None:
    conn.execute("UPDATE backups SET gone_at = ? WHERE id = ?", (at, backup_id))


def forget_failures(conn: Connection, *, before: int) -> None:
    conn.execute("DELETE FROM backups WHERE why <> '' AND at < ?", (before,))
