"""What machines have and lack: the newest list of each kind, and over the shop."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable, Sequence
from sqlite3 import Connection
from typing import Any

from pydantic import TypeAdapter

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.inventory import Inventory, ProgramsListed, UpdatesListed
from phylax.core.inventory.programs import InstalledProgram, ProgramOnMachine
from phylax.core.inventory.updates import MissingUpdate, Overdue, Update
from phylax.store.clients.shop import words_in

_TOLERATED = 240
"""Seconds by which a list that came later may seem to be the older one: clocks are put right by
about that much."""
_INVENTORY: TypeAdapter[Any] = TypeAdapter(Inventory)


def put(conn: Connection, machine_id: int, inventory: Inventory) -> None:
    """Keep a list; one that could not be read takes nothing away, an older one neither."""
    at = to_seconds(inventory.taken_at)
    known = conn.execute(
        "SELECT taken_at FROM inventories WHERE machine_id = ? AND kind = ?",
        (machine_id, inventory.kind),
    ).fetchone()
    if known is not None and known["taken_at"] > at + _TOLERATED:
        return
    unread = "" if inventory.kind == "hardware" else inventory.unread
    if unread and known is not None:
        conn.execute(
            "UPDATE inventories SET unread = ?, unread_at = ? WHERE machine_id = ? AND kind = ?",
            (unread, at, machine_id, inventory.kind),
        )
        return
    conn.execute(
        "INSERT OR REPLACE INTO inventories VALUES (?, ?, ?, ?, ?, ?)",
        (
            machine_id, inventory.kind, at, inventory.model_dump_json(),
            unread, at if unread else None,
        ),
    )  # fmt: skip
    if unread:
        return
    match inventory:
        case ProgramsListed():
            _put_programs(conn, machine_id, inventory, at)
        case UpdatesListed():
            _put_updates(conn, machine_id, inventory.updates, at)


def _put_programs(conn: Connection, machine_id: int, listed: ProgramsListed, at: int) -> None:
    conn.execute("DELETE FROM installed WHERE machine_id = ?", (machine_id,))
    conn.executemany(
        "INSERT OR REPLACE INTO installed VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                machine_id, program.key, program.name, program.version, program.size,
                None if program.last_used is None else to_seconds(program.last_used),
                int(program.trial), program.model_dump_json(exclude_defaults=True), at,
            )
            for program in listed.programs
        ],
    )  # fmt: skip


def _put_updates(conn: Connection, machine_id: int, updates: Sequence[Update], at: int) -> None:
    """What is missing is missing since it was first seen, whatever came out meanwhile."""
    names = json.dumps([update.name for update in updates])
    conn.execute(
        "DELETE FROM missing_updates WHERE machine_id = ?"
        " AND name NOT IN (SELECT value FROM json_each(?))",
        (machine_id, names),
    )
    conn.executemany(
        """
        INSERT INTO missing_updates VALUES (?, ?, ?, ?, ?)
        ON CONFLICT DO UPDATE SET content = excluded.content,
            since = iif(security = excluded.security, since, excluded.since),
            security = excluded.security
        """,
        [
            (
                machine_id, update.name, int(update.security), at,
                update.model_dump_json(exclude_defaults=True),
            )
            for update in updates
        ],
    )  # fmt: skip


def newest(conn: Connection, machine_id: int) -> list[Inventory]:
    """The newest list of each kind, with why a later look could not be taken."""
    rows = conn.execute(
        "SELECT * FROM inventories WHERE machine_id = ? ORDER BY kind", (machine_id,)
    )
    return [_inventory(row) for row in rows]


def of_kind(conn: Connection, machine_id: int, kind: str) -> Inventory | None:
    row = conn.execute(
        "SELECT * FROM inventories WHERE machine_id = ? AND kind = ?", (machine_id, kind)
    ).fetchone()
    return _inventory(row) if row else None


def _inventory(row: sqlite3.Row) -> Inventory:
    inventory: Inventory = _INVENTORY.validate_json(row["content"])
    return inventory.model_copy(update={"unread": row["unread"]}) if row["unread"] else inventory


def missing(conn: Connection, machine_id: int) -> list[MissingUpdate]:
    """Updates that a machine lacks: security first, and of these what is missing longest."""
    rows = conn.execute(
        "SELECT * FROM missing_updates WHERE machine_id = ? ORDER BY security DESC, since, name",
        (machine_id,),
    )
    return [
        MissingUpdate(
            update=Update.model_validate_json(row["content"]), since=from_seconds(row["since"])
        )
        for row in rows
    ]


def overdue(conn: Connection, machine_ids: Iterable[int], *, before: int) -> dict[int, Overdue]:
    """The oldest security update that machines have lacked since before some time."""
    rows = conn.execute(
        """
        SELECT u.machine_id, u.content, min(u.since) AS since, count(*) AS number
        FROM json_each(?) wanted
        CROSS JOIN missing_updates u ON u.machine_id = wanted.value AND u.security
        GROUP BY u.machine_id HAVING min(u.since) < ?
        """,
        (json.dumps(list(machine_ids)), before),
    )
    return {
        row["machine_id"]: Overdue(
            update=Update.model_validate_json(row["content"]),
            since=from_seconds(row["since"]),
            others=row["number"] - 1,
        )
        for row in rows
    }


def installed(
    conn: Connection,
    words: str,
    *,
    trial: bool = False,
    unused_before: int | None = None,
    not_version: str = "",
    limit: int,
) -> list[ProgramOnMachine]:
    """Programs over the shop, the largest first: by words in the name, trial software, what nobody
    started since a time, every version but one."""
    where, values = words_in(("i.name",), words)
    rows = conn.execute(
        f"""
        SELECT i.*, m.tag, c.name AS client_name FROM installed i
        JOIN machines m ON m.id = i.machine_id JOIN clients c ON c.id = m.client_id
        WHERE m.retired_at IS NULL AND {where} AND (NOT :trial OR i.trial)
          AND (:unused IS NULL OR i.last_used < :unused)
          AND (:version = '' OR i.version <> :version)
        ORDER BY i.size DESC NULLS LAST, i.name, m.tag LIMIT :limit
        """,
        values | {"trial": int(trial), "unused": unused_before, "version": not_version,
                  "limit": limit},
    )  # fmt: skip
    return [
        ProgramOnMachine(
            machine_id=row["machine_id"],
            machine_tag=row["tag"],
            client_name=row["client_name"],
            program=InstalledProgram.model_validate_json(row["program"]),
            taken_at=from_seconds(row["taken_at"]),
        )
        for row in rows
    ]
