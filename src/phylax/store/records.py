"""Maintenance records: appended, never changed, chained by digest."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from typing import NamedTuple

from phylax.core.records import FIRST, Entry, Record, RecordKind, digest
from phylax.core.values import from_seconds, to_seconds

Connection = sqlite3.Connection

_RECORD = """
    SELECT r.*, m.tag AS machine_tag, c.name AS client_name
    FROM records r
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id
"""


def append(conn: Connection, entry: Entry) -> int:
    """Add an entry to the chain; its number."""
    last = conn.execute("SELECT digest FROM records ORDER BY id DESC LIMIT 1").fetchone()
    previous = last[0] if last else FIRST
    cursor = conn.execute(
        """
        INSERT INTO records (machine_id, at, who, kind, text, run_id, state, freed, removed_count,
                             left_count, corrects, previous, digest)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            entry.machine_id, to_seconds(entry.at), entry.who, entry.kind, entry.text,
            entry.run_id, entry.state, entry.freed, entry.removed_count, entry.left_count,
            entry.corrects, previous, digest(entry, previous),
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def _record(row: sqlite3.Row) -> Record:
    fields = {name: row[name] for name in Record.model_fields}
    return Record.model_validate(fields | {"at": from_seconds(row["at"])})


def record(conn: Connection, record_id: int) -> Record | None:
    row = conn.execute(f"{_RECORD} WHERE r.id = ?", (record_id,)).fetchone()
    return _record(row) if row else None


def of_run(conn: Connection, run_id: int) -> int | None:
    """The number of a run's entry."""
    row = conn.execute("SELECT id FROM records WHERE run_id = ?", (run_id,)).fetchone()
    return row[0] if row else None


class RecordChoice(NamedTuple):
    """Which entries a listing holds; nothing chosen means all of them."""

    machine_id: int | None = None
    client_id: int | None = None
    kinds: tuple[RecordKind, ...] = ()
    who: str = ""
    since: int | None = None
    until: int | None = None
    words: str = ""


def records(
    conn: Connection, choice: RecordChoice = RecordChoice(), *, before: int, limit: int
) -> list[Record]:
    """Entries chosen, newest first, before a number; with all of some words."""
    where = ["r.id < :before"]
    values: dict[str, object] = {"before": before, "limit": limit}
    for term, value in (
        ("r.machine_id = :machine", choice.machine_id),
        ("m.client_id = :client", choice.client_id),
        ("r.who = :who", choice.who or None),
        ("r.at >= :since", choice.since),
        ("r.at < :until", choice.until),
        (
            "r.kind IN (SELECT value FROM json_each(:kinds))",
            json.dumps(choice.kinds) if choice.kinds else None,
        ),
    ):
        if value is not None:
            where.append(term)
            values[term.rpartition(":")[2].rstrip(")")] = value
    # Each word is quoted, so that what people type is never FTS5 syntax; NUL would end the query.
    match = " ".join(
        '"' + word.replace('"', '""') + '"' for word in choice.words.replace("\0", " ").split()
    )
    if match:
        values["match"] = match
        where.append("r.id IN (SELECT rowid FROM records_text WHERE records_text MATCH :match)")
    rows = conn.execute(
        f"{_RECORD} WHERE {' AND '.join(where)} ORDER BY r.id DESC LIMIT :limit",
        values,
    )
    return [_record(row) for row in rows]


def chain(conn: Connection) -> Iterator[Record]:
    """Every entry from the first."""
    for row in conn.execute(f"{_RECORD} ORDER BY r.id"):
        yield _record(row)


def digests(conn: Connection) -> Iterator[str]:
    """Of every entry from the first."""
    for row in conn.execute("SELECT digest FROM records ORDER BY id"):
        yield row[0]


def authors(conn: Connection) -> list[str]:
    """Who ever wrote an entry, by name."""
    rows = conn.execute("SELECT DISTINCT who FROM records ORDER BY who COLLATE NOCASE")
    return [row[0] for row in rows]
