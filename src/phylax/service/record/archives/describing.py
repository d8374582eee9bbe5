"""What an archive says of itself: each of its files, and each column."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from importlib import resources
from sqlite3 import Connection
from typing import Any

from phylax.store.file import archive
from phylax.store.file.data_map import TABLES, Holds

_HOLDS = {
    Holds.CODE: "a word or number of the program",
    Holds.CLIENT: "may name a client, their people, machines, files or programs",
    Holds.STAFF: "somebody of the shop, by name",
    Holds.SHOP: "the shop's own words",
}
_LISTS = {
    "lists/clients.csv": "Clients, to read or to take in elsewhere.",
    "lists/machines.csv": "Machines, to read or to take in elsewhere.",
    "lists/visits.csv": "Visits, to read.",
    "lists/record.csv": "The record, to read.",
    "record/entries.jsonl": "Each entry of the record: the text as it was hashed, its digest, and "
    "its words with their salts (hexadecimal). Words that were erased are null.",
    "record/hashed.txt": "The hashed texts alone, a line for each entry.",
    "record/digests.txt": "Their SHA-256, a line for each entry.",
    "record/seal.txt": "The newest seal: how many entries there are, the root of the tree over "
    "their digests (RFC 9162), signed (C2SP signed-note, Ed25519).",
    "record/older-seals.txt": "Seals before it, an empty line after each.",
    "columns.csv": "Each column of each table: its type, what it holds, to which table it refers.",
}


def readme(of: str, tables: Sequence[str], files: Mapping[str, Mapping[str, Any]]) -> str:
    """The description, as Markdown."""
    text = resources.files("phylax.service.record.archives").joinpath(f"{of}.md").read_text("utf-8")
    lines = [f"| {name} | {files[name]['lines']} | {what} |" for name, what in _described(files)]
    table = "\n".join(["| file | lines | what it is |", "|---|---|---|", *lines])
    return f"{text}\n{table}\n"


def _described(files: Iterable[str]) -> Iterable[tuple[str, str]]:
    for name in files:
        stem = name.removeprefix("tables/").removesuffix(".jsonl")
        if name.startswith("tables/"):
            yield name, TABLES[stem].what
        elif name.startswith("record/key-"):
            yield name, "A public key by which seals are checked; 1 is the newest."
        elif name in _LISTS:
            yield name, _LISTS[name]


def columns(conn: Connection, tables: Sequence[str]) -> tuple[list[str], list[list[str]]]:
    """Heading and rows."""
    rows = []
    for table in tables:
        refers = archive.refers(conn, table)
        for column, kind in archive.columns(conn, table).items():
            holds = TABLES[table].columns.get(column)
            said = _HOLDS[holds] if holds else "a number"
            rows.append([table, column, kind, said, refers.get(column, "")])
    return ["table", "column", "type", "what it holds", "refers to"], rows
