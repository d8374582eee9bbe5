"""Protect lists: what each scope adds to what always stays."""

from __future__ import annotations

import sqlite3

from phylax.core.retention import ProtectEntry, ProtectKind, Scope, ScopedProtection
from phylax.core.values import from_seconds

Connection = sqlite3.Connection
_ENTRY = """
    SELECT p.*, coalesce(c.name, m.tag, '') AS subject FROM protections p
    LEFT JOIN clients c ON p.scope = 'client' AND c.id = p.subject_id
    LEFT JOIN machines m ON p.scope = 'machine' AND m.id = p.subject_id
"""


def _entry(row: sqlite3.Row) -> ScopedProtection:
    return ScopedProtection(
        id=row["id"],
        scope=Scope(row["scope"]),
        subject_id=row["subject_id"],
        subject=row["subject"],
        entry=ProtectEntry(kind=ProtectKind(row["kind"]), what=row["what"]),
        note=row["note"],
        added_by=row["added_by"],
        added_at=from_seconds(row["added_at"]),
    )


def add(
    conn: Connection,
    scope: Scope,
    subject_id: int,
    entry: ProtectEntry,
    note: str,
    *,
    who: str,
    at: int,
) -> ScopedProtection | None:
    """A new entry; None where the scope says so already."""
    cursor = conn.execute(
        """
        INSERT INTO protections (scope, subject_id, kind, what, note, added_by, added_at)
        VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING
        """,
        (scope, subject_id, entry.kind, entry.what, note, who, at),
    )
    return protection(conn, int(cursor.lastrowid or 0)) if cursor.rowcount else None


def protection(conn: Connection, number: int) -> ScopedProtection | None:
    row = conn.execute(f"{_ENTRY} WHERE p.id = ?", (number,)).fetchone()
    return _entry(row) if row else None


def remove(conn: Connection, number: int) -> None:
    conn.execute("DELETE FROM protections WHERE id = ?", (number,))


def protections(conn: Connection) -> list[ScopedProtection]:
    """Everything that anyone protects, shop first."""
    rows = conn.execute(
        f"{_ENTRY} ORDER BY p.scope = 'machine', p.scope = 'client', p.subject_id, p.id"
    )
    return [_entry(row) for row in rows]


def in_force_on(conn: Connection, machine_id: int) -> list[ScopedProtection]:
    """What is protected on a machine: the shop's, its client's and its own."""
    rows = conn.execute(
        f"""
        {_ENTRY} WHERE p.scope = 'shop' AND p.subject_id = 0
        UNION ALL
        {_ENTRY} WHERE p.scope = 'client'
          AND p.subject_id = (SELECT client_id FROM machines WHERE id = :machine)
        UNION ALL
        {_ENTRY} WHERE p.scope = 'machine' AND p.subject_id = :machine
        """,
        {"machine": machine_id},
    )
    return [_entry(row) for row in rows]
