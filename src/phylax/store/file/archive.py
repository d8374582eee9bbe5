"""Rows of the shop's file as JSON values, out of it and into a new one.

Times stay epoch seconds, sizes bytes; bytes become ``{"base64": "..."}``. What lets somebody in or
opens something stays behind.
"""

from __future__ import annotations

import base64
import binascii
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from sqlite3 import Connection
from typing import Any

from phylax.store.file.data_map import TABLES, WORKED_OUT, Holds, of_client, table_named

Row = dict[str, Any]
BytesOut = Callable[[str, Row, str, bytes], Any]
"""What stands for bytes, by table, row and column."""


class BadRowError(Exception):
    """A row is not of this table, and why."""


def in_base64(table: str, row: Row, column: str, content: bytes) -> Any:
    return {"base64": base64.b64encode(content).decode()}


def leaving(client: int | None) -> list[str]:
    """The tables of an archive, of the whole shop or of one client's."""
    return [
        name
        for name, table in TABLES.items()
        if table.leaves and (client is None or _condition(name))
    ]


def _condition(table: str) -> str:
    if table == "programs":
        # a form of a program that many machines have is kept once
        mine = of_client("machine_programs")
        return f"id IN (SELECT program_id FROM machine_programs WHERE {mine})"
    return of_client(table)


def columns(conn: Connection, table: str) -> dict[str, str]:
    """Columns that leave, with their types, in order."""
    described = table_named(table)
    holds = described.columns if described else {}
    return {
        row["name"]: row["type"]
        for row in conn.execute(f"PRAGMA table_info({table})")
        if holds.get(row["name"]) is not Holds.SECRET
    }


def refers(conn: Connection, table: str) -> dict[str, str]:
    """To the rows of which table a column refers."""
    return {row["from"]: row["table"] for row in conn.execute(f"PRAGMA foreign_key_list({table})")}


def rows(
    conn: Connection, table: str, client: int | None = None, bytes_out: BytesOut = in_base64
) -> Iterator[Row]:
    """Rows in the order of their keys; a client's alone where one is given."""
    named = list(columns(conn, table))
    where = f"WHERE {_condition(table)}" if client is not None else ""
    keys = [
        row["name"]
        for row in sorted(conn.execute(f"PRAGMA table_info({table})"), key=lambda row: row["pk"])
        if row["pk"]
    ]
    order = ", ".join(keys) or "rowid"
    for kept in conn.execute(
        f"SELECT {', '.join(named)} FROM {table} {where} ORDER BY {order}", {"client": client}
    ):
        row = dict(zip(named, kept, strict=True))
        for column, value in row.items():
            if isinstance(value, bytes):
                row[column] = bytes_out(table, row, column, value)
        yield row


def has_rows(conn: Connection, table: str, client: int | None) -> bool:
    where = f"WHERE {_condition(table)}" if client is not None else ""
    question = f"SELECT EXISTS (SELECT 1 FROM {table} {where})"
    return bool(conn.execute(question, {"client": client}).fetchone()[0])


def highest_numbers(conn: Connection) -> dict[str, int]:
    """The highest number that each table gave to a row: none is given twice, also where its row is
    gone."""
    return {row["name"]: row["seq"] for row in conn.execute("SELECT * FROM sqlite_sequence")}


def go_on_from(conn: Connection, numbers: Mapping[str, int]) -> None:
    for name, number in numbers.items():
        conn.execute("DELETE FROM sqlite_sequence WHERE name = ?", (name,))
        conn.execute("INSERT INTO sqlite_sequence (name, seq) VALUES (?, ?)", (name, number))


def bytes_of(value: Any) -> Any:
    """A value as the file keeps it. BadRowError."""
    if isinstance(value, dict):
        try:
            return base64.b64decode(value["base64"], validate=True)
        except (KeyError, TypeError, binascii.Error) as error:
            raise BadRowError("bytes are written as {'base64': '...'}") from error
    if isinstance(value, (list, bool)):
        raise BadRowError(f"{str(value)[:40]!r} is no text, number or bytes")
    return value


def put(conn: Connection, table: str, lines: Iterable[Mapping[str, Any]]) -> int:
    """Add rows to a table; how many. BadRowError names the line."""
    known = columns(conn, table)
    secrets = _secrets(conn, table)
    number = 0
    for number, line in enumerate(lines, 1):
        if odd := line.keys() - known.keys():
            raise BadRowError(f"line {number} has {sorted(odd)[0]!r}, which {table} has not")
        try:
            row = {column: bytes_of(value) for column, value in line.items()} | secrets
            conn.execute(
                f"INSERT INTO {table} ({', '.join(row)}) VALUES ({', '.join('?' * len(row))})",
                tuple(row.values()),
            )
        except (BadRowError, sqlite3.Error, OverflowError, UnicodeEncodeError) as error:
            raise BadRowError(f"line {number}: {error}") from error
    return number


def _secrets(conn: Connection, table: str) -> dict[str, Any]:
    """What stands for what stayed behind, where something must."""
    described = table_named(table)
    holds = described.columns if described else {}
    return {
        row["name"]: "" if row["type"] == "TEXT" else b""
        for row in conn.execute(f"PRAGMA table_info({table})")
        if holds.get(row["name"]) is Holds.SECRET and row["notnull"]
    }


@contextmanager
def without_triggers(conn: Connection) -> Iterator[None]:
    """Rows are put in as they were: what they once set off is there already."""
    triggers = conn.execute("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger'").fetchall()
    for name, _ in triggers:
        conn.execute(f"DROP TRIGGER {name}")
    yield
    for _, sql in triggers:
        conn.execute(sql)


def empty(conn: Connection) -> None:
    """What a new file begins with is not what the archive brings."""
    there = {row[0] for row in conn.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")}
    for name in there:
        table = table_named(name)
        if table and table.leaves:
            conn.execute(f"DELETE FROM {name}")


def index_anew(conn: Connection) -> None:
    for index in sorted(WORKED_OUT):
        conn.execute(f"INSERT INTO {index} ({index}) VALUES ('rebuild')")


def settle(conn: Connection, *, at: int) -> None:
    """What the old shop goes on with is not done by the new one as well: its hooks, its mails that
    wait, what was sealed by a key that stayed there."""
    conn.execute("UPDATE hooks SET withdrawn_at = ? WHERE withdrawn_at IS NULL", (at,))
    conn.execute(
        "UPDATE notices SET state = 'given up', ended_at = ?, error = 'loaded from an archive'"
        " WHERE state = 'waiting'",
        (at,),
    )
    conn.execute("UPDATE sealed_notes SET destroyed_at = ? WHERE destroyed_at IS NULL", (at,))
