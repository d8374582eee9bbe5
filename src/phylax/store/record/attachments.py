"""Pictures and PDFs of entries."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from hashlib import sha256
from sqlite3 import Connection

from phylax.core.record.attachments import Attachment, AttachmentKind

_DAY = 86400


def _attachment(row: sqlite3.Row) -> Attachment:
    return Attachment.model_validate({name: row[name] for name in Attachment.model_fields})


def attachment(conn: Connection, number: int) -> Attachment | None:
    row = conn.execute(
        "SELECT id, name, kind, size, sha256 FROM attachments WHERE id = ?", (number,)
    ).fetchone()
    return _attachment(row) if row else None


def content(conn: Connection, number: int) -> bytes:
    row = conn.execute("SELECT content FROM attachments WHERE id = ?", (number,)).fetchone()
    return row[0] if row else b""


def add(
    conn: Connection, name: str, kind: AttachmentKind, kept: bytes, *, who: str, at: int
) -> int:
    """Uploaded, and of no entry yet. Those that came to none within a day go."""
    conn.execute("DELETE FROM attachments WHERE entry IS NULL AND made_at < ?", (at - _DAY,))
    cursor = conn.execute(
        """
        INSERT INTO attachments (name, kind, size, sha256, content, made_by, made_at)
        VALUES (?, ?, ?, ?, ?, ?, ?)
        """,
        (name, kind, len(kept), sha256(kept).hexdigest(), kept, who, at),
    )
    return int(cursor.lastrowid or 0)


def waiting_of(conn: Connection, who: str) -> int:
    """How many somebody has uploaded that are of no entry."""
    row = conn.execute(
        "SELECT count(*) FROM attachments WHERE entry IS NULL AND made_by = ?", (who,)
    ).fetchone()
    return int(row[0])


def to_be_used(conn: Connection, numbers: Sequence[int], who: str) -> list[Attachment] | None:
    """Uploaded by somebody and of no entry yet, in that order; None where one is not."""
    waiting = []
    for number in dict.fromkeys(numbers):
        row = conn.execute(
            """
            SELECT id, name, kind, size, sha256 FROM attachments
            WHERE id = ? AND entry IS NULL AND made_by = ?
            """,
            (number, who),
        ).fetchone()
        if row is None:
            return None
        waiting.append(_attachment(row))
    return waiting


def tie(conn: Connection, numbers: Sequence[int], entry: int) -> None:
    conn.executemany(
        "UPDATE attachments SET entry = ? WHERE id = ?", [(entry, number) for number in numbers]
    )


def altered(conn: Connection) -> Iterator[int]:
    """Entries of which an attachment is gone, or is not what the entry says."""
    rows = conn.execute(
        """
        SELECT r.id, r.attachments FROM records r WHERE r.attachments IS NOT NULL
          AND NOT EXISTS (SELECT 1 FROM erased_entries e WHERE e.entry = r.id)
        """
    )
    for entry, digests in rows:
        kept = conn.execute("SELECT content FROM attachments WHERE entry = ?", (entry,))
        known = sorted(sha256(row[0]).hexdigest() for row in kept)
        wanted = conn.execute("SELECT value FROM json_each(?)", (digests,))
        if known != sorted(row[0] for row in wanted):
            yield entry
