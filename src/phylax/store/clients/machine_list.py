"""Listings of machines: chosen, sorted, page by page."""

from __future__ import annotations

import json
from sqlite3 import Connection

from phylax.core.clients.machine_list import MachineChoice, MachineSort
from phylax.core.clients.shop import Machine
from phylax.store.clients.shop import with_volumes_of, words_in

_NUMBERS = """
    SELECT m.id
    FROM machines m
    JOIN clients c ON c.id = m.client_id
    JOIN shop
    LEFT JOIN agents a ON a.machine_id = m.id
    LEFT JOIN (
        SELECT v.machine_id, max(1.0 * (v.capacity - v.free) / v.capacity) AS used,
               min(o.crosses_at) AS crosses_at
        FROM volumes v LEFT JOIN outlooks o ON o.volume_id = v.id
        WHERE v.gone_at IS NULL AND v.capacity > 0
        GROUP BY v.machine_id
    ) t ON t.machine_id = m.id
    LEFT JOIN (
        SELECT machine_id, min(next_at) AS next_at FROM round_machines GROUP BY machine_id
    ) r ON r.machine_id = m.id
"""

_LIMIT = "coalesce(m.threshold_percent, c.threshold_percent, shop.threshold_percent)"
_IS_OVER = f"coalesce(100 * t.used > {_LIMIT}, 0)"

# What is not known comes last, whichever way round.
_ORDERS = {
    MachineSort.NUMBER: ("m.id",),
    MachineSort.TAG: ("m.tag COLLATE NOCASE",),
    MachineSort.CLIENT: ("c.name COLLATE NOCASE", "m.tag COLLATE NOCASE"),
    MachineSort.TIGHTEST: ("t.used",),
    MachineSort.CROSSING: (f"CASE WHEN {_IS_OVER} THEN 0 ELSE t.crosses_at END", "-t.used"),
    MachineSort.CLEANED: ("m.cleaned_at",),
    MachineSort.ROUND: ("r.next_at",),
    MachineSort.SEEN: ("m.seen_at",),
}


def _condition(choice: MachineChoice) -> tuple[str, dict[str, object]]:
    """The condition on `m` and `c` that needs no sums, and its values."""
    condition, values = words_in(("m.tag", "c.name", "m.make", "m.model", "m.serial"), choice.words)
    where = [condition, f"m.retired_at IS {'NOT ' if choice.retired else ''}NULL"]
    if choice.retired:
        where.append("c.forgotten_at IS NULL")
    if choice.client_id is not None:
        where.append("m.client_id = :client")
        values["client"] = choice.client_id
    if choice.systems:
        where.append("m.system IN (SELECT value FROM json_each(:systems))")
        values["systems"] = json.dumps(choice.systems)
    if choice.not_enrolled:
        where.append("a.machine_id IS NULL")
    return " AND ".join(where), values


def numbers(
    conn: Connection, choice: MachineChoice, sort: MachineSort, *, descending: bool
) -> list[int]:
    """The numbers of the machines chosen, in order."""
    where, values = _condition(choice)
    if choice.nearly_full:
        where += f" AND {_IS_OVER}"
    if choice.without_round:
        where += " AND r.next_at IS NULL"
    way = "DESC" if descending else "ASC"
    order = ", ".join(f"{term} {way} NULLS LAST" for term in _ORDERS[sort])
    return [
        row[0] for row in conn.execute(f"{_NUMBERS} WHERE {where} ORDER BY {order}, m.id", values)
    ]


def machines(
    conn: Connection, choice: MachineChoice = MachineChoice(), *, after: int, limit: int
) -> list[Machine]:
    """Machines chosen, in order of their number, after one."""
    if choice.nearly_full or choice.without_round:
        chosen = numbers(conn, choice, MachineSort.NUMBER, descending=False)
        where = "m.id IN (SELECT value FROM json_each(:ids))"
        values: dict[str, object] = {"ids": json.dumps(chosen)}
    else:
        where, values = _condition(choice)
    return with_volumes_of(
        conn,
        f"WHERE m.id > :after AND {where} ORDER BY m.id LIMIT :limit",
        {**values, "after": after, "limit": limit},
    )


def by_numbers(conn: Connection, wanted: list[int]) -> list[Machine]:
    """Machines by their numbers, in that order; those that are not there are left out."""
    where = "WHERE m.id IN (SELECT value FROM json_each(:ids))"
    by_id = {m.id: m for m in with_volumes_of(conn, where, {"ids": json.dumps(wanted)})}
    return [by_id[number] for number in wanted if number in by_id]
