"""What the shop has written about programs."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.tuning.known import KnownEdit, KnownProgram


def entries(conn: Connection) -> list[KnownProgram]:
    """Everything that was written about programs, by number."""
    return [_entry(row) for row in conn.execute("SELECT * FROM known_programs ORDER BY id")]


def entry(conn: Connection, number: int) -> KnownProgram | None:
    row = conn.execute("SELECT * FROM known_programs WHERE id = ?", (number,)).fetchone()
    return _entry(row) if row else None


def _entry(row: sqlite3.Row) -> KnownProgram:
    return KnownProgram(
        id=row["id"],
        edit=KnownEdit.model_validate_json(row["edit"]),
        version=row["version"],
        written_by=row["written_by"],
        written_at=from_seconds(row["written_at"]),
    )


def write_about(conn: Connection, edit: KnownEdit, *, who: str, at: int) -> int:
    """A new entry; returns its number."""
    cursor = conn.execute(
        "INSERT INTO known_programs (edit, written_by, written_at) VALUES (?, ?, ?)",
        (edit.model_dump_json(), who, at),
    )
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def write_anew(conn: Connection, number: int, edit: KnownEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE known_programs SET edit = ?, version = version + 1, written_by = ?, written_at = ?
        WHERE id = ?
        """,
        (edit.model_dump_json(), who, at, number),
    )


def strike_out(conn: Connection, number: int) -> None:
    conn.execute("DELETE FROM known_programs WHERE id = ?", (number,))
