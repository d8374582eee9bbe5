"""A client's rows: deleted, or blanked where their figures stay."""

from __future__ import annotations

import json
from collections.abc import Sequence
from sqlite3 import Connection
from typing import Any

from phylax.store.erasing.slices import in_slices, values
from phylax.store.erasing.sweep import keys_of
from phylax.store.file.data_map import TABLES, Ends, Holds, of_client
from phylax.store.file.database import Database

_BY_THEMSELVES = frozenset({"records", "record_parts", "forgettings"})
"""What is chained is erased, not blanked; what is looked for is needed until the end."""
_LAST = ("machines", "clients")
"""By them, all the rest is known as the client's."""
_CALLED = {
    "machines": ("tag", "'forgotten-' || id"),
    "clients": ("name", "'Forgotten client ' || id"),
}


def remove(database: Database, client_id: int) -> None:
    """Everything of theirs that goes whole; what hangs on others goes first."""
    _unlist_files(database, client_id)
    with database.read() as conn:
        order = _children_first(conn)
    for table in order:
        if TABLES[table].ends is Ends.DELETED:
            keys, rows = _rows_of(database, table, client_id)
            question = f"DELETE FROM {table} WHERE {' AND '.join(f'{key} = ?' for key in keys)}"
            in_slices(database, rows, lambda conn, some: conn.executemany(question, some))  # noqa: B023
    _remove_orphans(database)


def blank(database: Database, client_id: int, *, at: int) -> None:
    """What stays of theirs, without words."""
    names = [
        name
        for name, table in TABLES.items()
        if table.ends is Ends.BLANKED and name not in _BY_THEMSELVES and name not in _LAST
    ]
    for table in (*names, *_LAST):
        keys, rows = _rows_of(database, table, client_id)
        with database.read() as conn:
            sets = _blanks(conn, table)
        if table == "clients":
            sets += f", forgotten_at = coalesce(forgotten_at, {int(at)})"
        question = f"UPDATE {table} SET {sets} WHERE {' AND '.join(f'{key} = ?' for key in keys)}"
        in_slices(database, rows, lambda conn, some: conn.executemany(question, some))  # noqa: B023


def rename_rounds(database: Database, client_id: int, machines: Sequence[int]) -> None:
    """Rounds that were theirs alone are often called after them."""
    with database.read() as conn:
        theirs = rounds_of(conn, client_id, machines)

    def act(conn: Connection, some: Sequence[tuple[int, str]]) -> None:
        for number, name in some:
            called = f"Round {number} of forgotten client {client_id}"
            for table, key in (("rounds", "id"), ("round_versions", "round_id")):
                conn.execute(
                    f"UPDATE {table} SET plan = json_set(plan, '$.name', ?) WHERE {key} = ?",
                    (called, number),
                )
            conn.execute("UPDATE rounds SET name = ? WHERE id = ?", (called, number))
            conn.execute("DELETE FROM idempotency WHERE instr(body, ?)", (json.dumps(name)[1:-1],))
            conn.execute("DELETE FROM idempotency WHERE instr(body, ?)", (name,))

    in_slices(database, theirs, act)


def rounds_of(conn: Connection, client_id: int, machines: Sequence[int]) -> list[tuple[int, str]]:
    """Rounds that are a client's alone: number and name."""
    theirs = []
    for number, name, plan in conn.execute("SELECT id, name, plan FROM rounds"):
        said = json.loads(plan)
        if said.get("machines_like") is None and _are_among(said, client_id, machines):
            theirs.append((number, name))
    return theirs


def _are_among(plan: dict[str, Any], client_id: int, machines: Sequence[int]) -> bool:
    clients, of_machines = plan.get("client_ids") or [], plan.get("machine_ids") or []
    return (
        bool([*clients, *of_machines])
        and {*clients} <= {client_id}
        and {*of_machines} <= {*machines}
    )


def _blanks(conn: Connection, table: str) -> str:
    called = dict([_CALLED[table]]) if table in _CALLED else {}
    can_be_null = {
        row["name"]: not row["notnull"] for row in conn.execute(f"PRAGMA table_info({table})")
    }
    sets = []
    for column, holds in TABLES[table].columns.items():
        if column in called:
            sets.append(f"{column} = {called[column]}")
        elif holds is Holds.CLIENT:
            sets.append(f"{column} = {'NULL' if can_be_null[column] else repr('')}")
    return ", ".join(sets)


def _rows_of(
    database: Database, table: str, client_id: int
) -> tuple[list[str], list[tuple[object, ...]]]:
    with database.read() as conn:
        keys = keys_of(conn, table)
        rows = conn.execute(
            f"SELECT {', '.join(keys)} FROM {table} WHERE {of_client(table)}", {"client": client_id}
        )
        return keys, values(rows)


def _children_first(conn: Connection) -> list[str]:
    """Tables in an order in which nothing goes before what hangs on it."""
    parents = {
        name: {row["table"] for row in conn.execute(f"PRAGMA foreign_key_list({name})")} - {name}
        for name in TABLES
    }
    order: list[str] = []

    def place(name: str) -> None:
        if name not in order:
            for other, above in parents.items():
                if name in above:
                    place(other)
            order.append(name)

    for name in TABLES:
        place(name)
    return order


def _unlist_files(database: Database, client_id: int) -> None:
    """Names of files, out of their index."""
    _, rows = _rows_of(database, "named_files", client_id)

    def act(conn: Connection, some: Sequence[tuple[object, ...]]) -> None:
        for (number,) in some:
            unname_file(conn, number)

    in_slices(database, rows, act)


def unname_file(conn: Connection, number: object) -> None:
    """Out of the index as it was put in, then gone."""
    conn.execute(
        """
        INSERT INTO files_text (files_text, rowid, path, place)
        SELECT 'delete', id, path, place FROM file_words WHERE id = ?
        """,
        (number,),
    )
    conn.execute("DELETE FROM named_files WHERE id = ?", (number,))


def _remove_orphans(database: Database) -> None:
    """Names of programs that no machine has any more."""
    for table, question in (
        ("program_names", "SELECT name FROM program_names n WHERE NOT EXISTS"
                          " (SELECT 1 FROM installed i WHERE i.name = n.name)"),
        ("programs", "SELECT id FROM programs p WHERE NOT EXISTS"
                     " (SELECT 1 FROM machine_programs m WHERE m.program_id = p.id)"),
    ):  # fmt: skip
        key = "name" if table == "program_names" else "id"
        with database.read() as conn:
            rows = values(conn.execute(question))
        removal = f"DELETE FROM {table} WHERE {key} = ?"
        in_slices(database, rows, lambda conn, some: conn.executemany(removal, some))  # noqa: B023
