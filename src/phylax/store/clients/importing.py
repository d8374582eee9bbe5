"""What an import compares a list with, and how it is written down."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.clients.importing.lines import OF_CLIENT, OF_MACHINE
from phylax.core.clients.importing.planning import Known, KnownRow
from phylax.core.clients.importing.request import ListField


def known(conn: Connection, source: str) -> Known:
    """All clients and machines, and the numbers that they have in a list."""
    clients = {
        row["id"]: _kept(row, OF_CLIENT)
        for row in conn.execute("SELECT * FROM clients ORDER BY id")
    }
    machines = []
    for row in conn.execute("SELECT * FROM machines ORDER BY id"):
        machine = _kept(row, OF_MACHINE)
        machine.client = clients[row["client_id"]]
        machines.append(machine)
    numbers: dict[str, dict[str, int]] = {"client": {}, "machine": {}}
    for row in conn.execute(
        "SELECT kind, number, subject_id FROM list_numbers WHERE source = ?", (source,)
    ):
        numbers[row["kind"]][row["number"]] = row["subject_id"]
    return Known(list(clients.values()), machines, numbers["client"], numbers["machine"])


def state(conn: Connection) -> str:
    """Changes with every client and machine, and every number of a list."""
    row = conn.execute(
        """
        SELECT (SELECT count(*) || ' ' || coalesce(sum(version), 0) || ' ' || coalesce(max(id), 0)
                FROM clients)
            || ' ' ||
               (SELECT count(*) || ' ' || coalesce(sum(version), 0) || ' ' || coalesce(max(id), 0)
                FROM machines)
            || ' ' || (SELECT count(*) FROM list_numbers)
        """
    ).fetchone()
    return str(row[0])


def _kept(row: sqlite3.Row, fields: dict[ListField, str]) -> KnownRow:
    return KnownRow(
        {field: str(row[name]) for field, name in fields.items() if row[name] not in ("", None)},
        id=row["id"],
        version=row["version"],
        retired=row["retired_at"] is not None,
    )


def note_number(conn: Connection, source: str, kind: str, number: str, subject_id: int) -> None:
    conn.execute(
        "INSERT OR IGNORE INTO list_numbers VALUES (?, ?, ?, ?)", (source, kind, number, subject_id)
    )
