"""Words that name a client, wherever else they stand: in names of rounds, notes of others, mails,
answers that are kept for a while."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from sqlite3 import Connection
from typing import Any

from phylax.core.erasing.forgetting.words import Words
from phylax.store.erasing.slices import in_slices
from phylax.store.file.data_map import TABLES, Holds
from phylax.store.file.database import Database

_GO_WHOLE = frozenset({"notices", "idempotency", "program_names", "programs", "list_numbers"})
"""A row that names them is of no use without."""
_CHAINED = frozenset({"records", "record_parts", "audit", "audit_parts"})
_OWN = frozenset({"forgettings"})
"""What is looked for stands there until the end."""
_TEXT = (Holds.CLIENT, Holds.SHOP)


def roughly(columns: Sequence[str], words: Words) -> tuple[str, dict[str, Any]]:
    """A condition that texts which hold one of the words meet, and few others."""
    rough = {f"rough{number}": part for number, part in enumerate(words.roughly)}
    terms = [f"instr(lower({column}), :{name})" for column in columns for name in rough]
    return " OR ".join(terms) or "0", dict(rough)


def keys_of(conn: Connection, table: str) -> list[str]:
    """The columns by which a row is named."""
    rows = sorted(conn.execute(f"PRAGMA table_info({table})"), key=lambda row: row["pk"])
    is_plain = conn.execute(
        "SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?", (table,)
    ).fetchone()
    return [row["name"] for row in rows if row["pk"]] if is_plain[0] else ["rowid"]


def sweep(database: Database, words: Words, put: str, machines: Sequence[int]) -> None:
    """Take the words out of every table that is not chained; answers about their machines go."""
    marks = [(f'"machine_id":{machine},',) for machine in machines]

    def act(conn: Connection, some: Sequence[tuple[str]]) -> None:
        conn.executemany("DELETE FROM idempotency WHERE instr(body, ?)", some)

    in_slices(database, marks, act)
    for name, table in TABLES.items():
        columns = [column for column, holds in table.columns.items() if holds in _TEXT]
        if columns and name not in _CHAINED | _OWN:
            _sweep(database, name, columns, words, put)


def _sweep(database: Database, table: str, columns: Sequence[str], words: Words, put: str) -> None:
    with database.read() as conn:
        keys = keys_of(conn, table)
        kinds = {row["name"]: row["type"] for row in conn.execute(f"PRAGMA table_info({table})")}
        texts = [column for column in columns if kinds[column] == "TEXT"]
        if not texts:
            return
        where, wanted = roughly(texts, words)
        naming = [
            row
            for row in conn.execute(
                f"SELECT {', '.join([*keys, *texts])} FROM {table} WHERE {where}", wanted
            )
            if any(words.are_in(text or "") for text in tuple(row)[len(keys) :])
        ]
    named = " AND ".join(f"{key} = ?" for key in keys)

    def act(conn: Connection, rows: Sequence[sqlite3.Row]) -> None:
        for row in rows:
            key = tuple(row)[: len(keys)]
            if table in _GO_WHOLE:
                _remove_row(conn, table, named, key)
                continue
            changed = [
                words.taken_out(text, put) if text else text for text in tuple(row)[len(keys) :]
            ]
            sets = ", ".join(f"{column} = ?" for column in texts)
            conn.execute(f"UPDATE {table} SET {sets} WHERE {named}", (*changed, *key))

    in_slices(database, naming, act)


def _remove_row(conn: Connection, table: str, named: str, key: tuple[object, ...]) -> None:
    if table == "notices":
        conn.execute(
            "DELETE FROM notice_attention WHERE notice_id IN"
            f" (SELECT id FROM notices WHERE {named})",
            key,
        )
    conn.execute(f"DELETE FROM {table} WHERE {named}", key)
