"""The spans of keeping, and how far they were dealt with."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.erasing.data_retention import MONTH_DAYS, DataRetention, DataRetentionEdit
from phylax.core.ground.values import from_seconds


def keeping(conn: Connection) -> DataRetention:
    row = conn.execute("SELECT * FROM data_retention").fetchone()
    swept = row["swept_at"]
    return DataRetention(
        file_names_months=row["file_names_months"],
        notices_months=row["notices_months"],
        staff_months=row["staff_months"],
        swept_at=from_seconds(swept) if swept else None,
        version=row["version"],
    )


def put(conn: Connection, edit: DataRetentionEdit, *, who: str, at: int) -> None:
    """It is dealt with anew soon."""
    conn.execute(
        """
        UPDATE data_retention SET file_names_months = ?, notices_months = ?, staff_months = ?,
               swept_at = 0, version = version + 1, changed_by = ?, changed_at = ?
        """,
        (edit.file_names_months, edit.notices_months, edit.staff_months, who, at),
    )


def changed(conn: Connection) -> tuple[str, int]:
    """Who changed it last, and when."""
    row = conn.execute("SELECT changed_by, changed_at FROM data_retention").fetchone()
    return row[0], row[1]


def before(months: int, at: int) -> int:
    """Epoch second before which a span is over."""
    return at - int(months * MONTH_DAYS * 86400)


def files_until(conn: Connection) -> int:
    return int(conn.execute("SELECT files_until FROM data_retention").fetchone()[0])


def note_swept(conn: Connection, *, files_until: int, at: int) -> None:
    conn.execute(
        "UPDATE data_retention SET swept_at = ?, files_until = max(files_until, ?)",
        (at, files_until),
    )
