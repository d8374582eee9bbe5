"""What people read of an archive: clients, machines, visits and entries as CSV. Clients and
machines are named as an import names them."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds

_CLIENTS = """
    SELECT id AS number, name AS client, contact, mail, phone, contact_by, hours, agreements,
           note AS client_note, retired_at FROM clients WHERE :client IS NULL OR id = :client
"""
_MACHINES = """
    SELECT m.id AS number, c.name AS client, m.tag, m.system, m.system_version, m.make, m.model,
           m.serial, m.year, m.memory, m.processor, m.used_for, m.used_by, m.location, m.note,
           m.retired_at
    FROM machines m JOIN clients c ON c.id = m.client_id
    WHERE :client IS NULL OR c.id = :client ORDER BY m.id
"""
_VISITS = """
    SELECT v.id AS number, m.tag, c.name AS client, v.kind, v.reported_problem, v.condition,
           v.accessories,
           v.due_on, v.approval_limit, v.guaranteed_until, v.opened_at, v.opened_by, v.closed_at,
           v.closed_by, v.outcome
    FROM visits v JOIN machines m ON m.id = v.machine_id JOIN clients c ON c.id = m.client_id
    WHERE :client IS NULL OR c.id = :client ORDER BY v.id
"""
_ENTRIES = """
    SELECT r.id AS number, r.at, coalesce(p.who, r.who) AS who, m.tag, c.name AS client, r.kind,
           coalesce(p.text, r.text) AS text, r.freed, r.removed_count, r.left_count, r.run_id,
           r.visit_id, r.corrects
    FROM records r LEFT JOIN record_parts p ON p.entry = r.id
    JOIN machines m ON m.id = r.machine_id JOIN clients c ON c.id = m.client_id
    WHERE :client IS NULL OR c.id = :client ORDER BY r.id
"""
Listed = tuple[str, list[str], Iterable[Iterable[object]]]


def lists(conn: Connection, client: int | None) -> Iterator[Listed]:
    """Names, headings and rows."""
    for name, question in (
        ("clients", _CLIENTS), ("machines", _MACHINES), ("visits", _VISITS), ("record", _ENTRIES),
    ):  # fmt: skip
        cursor = conn.execute(question, {"client": client})
        heading = [column[0] for column in cursor.description]
        yield name, heading, (_row(heading, row) for row in cursor)


def _row(heading: list[str], row: sqlite3.Row) -> list[object]:
    return [
        from_seconds(value) if column.endswith("at") and isinstance(value, int) else value
        for column, value in zip(heading, row, strict=True)
    ]
