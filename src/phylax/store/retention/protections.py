"""Protect lists: what each scope adds to what is protected."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.retention import ProtectEntry, ProtectKind, Scope, ScopedProtection
from phylax.core.retention.protection import ListedProtection, ProtectionOnMachine
from phylax.core.survey import Cover

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
        entry=ProtectEntry(kind=ProtectKind(row["kind"]), pattern=row["pattern"]),
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
        INSERT INTO protections (scope, subject_id, kind, pattern, note, added_by, added_at)
        VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING
        """,
        (scope, subject_id, entry.kind, entry.pattern, note, who, at),
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


# --- what they cover ------------------------------------------------------------------------

_IN_SCOPE = """
    FROM protections p JOIN machines m ON (
        p.scope = 'shop' OR (p.scope = 'client' AND m.client_id = p.subject_id)
        OR (p.scope = 'machine' AND m.id = p.subject_id))
    LEFT JOIN protection_covers v
        ON v.machine_id = m.id AND v.kind = p.kind AND v.pattern = p.pattern
"""


def note_covers(conn: Connection, machine_id: int, covers: Iterable[Cover], *, at: int) -> None:
    """What the list covers on a machine is now what its newest survey found."""
    conn.execute("DELETE FROM protection_covers WHERE machine_id = ?", (machine_id,))
    conn.executemany(
        "INSERT OR REPLACE INTO protection_covers VALUES (?, ?, ?, ?, ?, ?, ?)",
        [
            (
                machine_id, cover.entry.kind, cover.entry.pattern, int(cover.exists),
                cover.kept.count, cover.kept.size, at,
            )
            for cover in covers
        ],
    )  # fmt: skip


def with_covers(
    conn: Connection, entries: Iterable[ScopedProtection], machine_id: int | None = None
) -> list[ListedProtection]:
    """Entries with what they cover, on one machine or on all that they are for."""
    rows = conn.execute(
        f"""
        SELECT p.id, count(v.at), total(v.is_present OR v.kept > 0), count(*),
               total(v.kept), total(v.kept_size)
        {_IN_SCOPE} WHERE :machine IS NULL OR m.id = :machine GROUP BY p.id
        """,
        {"machine": machine_id},
    )
    sums = {row[0]: tuple(map(int, tuple(row)[1:])) for row in rows}
    listed = []
    for entry in entries:
        looked, covers, machines, kept, size = sums.get(entry.id, (0, 0, 0, 0, 0))
        listed.append(
            ListedProtection(
                **{name: getattr(entry, name) for name in ScopedProtection.model_fields},
                covers=covers,
                covers_nothing=looked - covers,
                not_known=machines - looked,
                kept=kept,
                kept_size=size,
            )
        )
    return listed


def on_machines(conn: Connection, number: int) -> list[ProtectionOnMachine]:
    """What an entry covers on each machine that it is for: first those where it covers nothing."""
    rows = conn.execute(
        f"""
        SELECT m.id, m.tag, (SELECT name FROM clients c WHERE c.id = m.client_id) AS client,
               v.at, v.is_present, v.kept, v.kept_size
        {_IN_SCOPE} WHERE p.id = ?
        ORDER BY v.at IS NULL, v.is_present OR v.kept > 0, m.tag
        """,
        (number,),
    )
    return [
        ProtectionOnMachine(
            machine_id=row["id"],
            tag=row["tag"],
            client=row["client"],
            surveyed_at=None if row["at"] is None else from_seconds(row["at"]),
            exists=bool(row["is_present"]),
            kept=row["kept"] or 0,
            kept_size=row["kept_size"] or 0,
        )
        for row in rows
    ]


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
    scopes = list(Scope)
    return sorted(map(_entry, rows), key=lambda entry: (scopes.index(entry.scope), entry.id))
