"""The spans of keeping, and how far they were seen to."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.erasing.data_retention import MONTH_DAYS, Keeping, KeepingEdit
from phylax.core.ground.values import from_seconds


def keeping(conn: Connection) -> Keeping:
    row = conn.execute("SELECT * FROM keeping").fetchone()
    swept = row["swept_at"]
    return Keeping(
        file_names_months=row["file_names_months"],
        notices_months=row["notices_months"],
        staff_months=row["staff_months"],
        swept_at=from_seconds(swept) if swept else None,
        version=row["version"],
    )


def put(conn: Connection, edit: KeepingEdit, *, who: str, at: int) -> None:
    """It is seen to anew soon."""
    conn.execute(
        """
        UPDATE keeping SET file_names_months = ?, notices_months = ?, staff_months = ?,
               swept_at = 0, version = version + 1, changed_by = ?, changed_at = ?
        """,
        (edit.file_names_months, edit.notices_months, edit.staff_months, who, at),
    )


def changed(conn: Connection) -> tuple[str, int]:
    """Who changed it last, and when."""
    row = conn.execute("SELECT changed_by, changed_at FROM keeping").fetchone()
    return row[0], row[1]


def before(months: int, at: int) -> int:
    """Epoch second before which a span is over."""
    return at - int(months * MONTH_DAYS * 86400)


def files_until(conn: Connection) -> int:
    return int(conn.execute("SELECT files_until FROM keeping").fetchone()[0])


def note_swept(conn: Connection, *, files_until: int, at: int) -> None:
    conn.execute(
        "UPDATE keeping SET swept_at = ?, files_until = max(files_until, ?)", (at, files_until)
    )
