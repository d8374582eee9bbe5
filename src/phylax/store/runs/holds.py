"""What is held on machines, as their agents have told."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from sqlite3 import Connection

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.hold.holds import BatchPick, HeldItem, HeldPick, Hold
from phylax.core.protocol import HeldMessage, UnheldMessage

_MOST_HELD = 2**53 - 1
"""Bytes that a hold shows at most, so that no sum overflows, whatever a machine says."""

_HOLD = """
    SELECT h.*, m.tag AS machine_tag FROM holds h JOIN machines m ON m.id = h.machine_id
"""


def _hold(row: sqlite3.Row) -> Hold:
    return Hold(
        id=row["id"],
        machine_id=row["machine_id"],
        machine_tag=row["machine_tag"],
        run_id=row["run_id"],
        category=row["category"],
        mount=row["mount"],
        held_at=from_seconds(row["held_at"]),
        expires_at=from_seconds(row["expires_at"]),
        held=Tally(count=row["held_count"], size=row["held_size"]),
        put_back=Tally(count=row["back_count"], size=row["back_size"]),
        deleted=Tally(count=row["deleted_count"], size=row["deleted_size"]),
    )


def hold(conn: Connection, hold_id: int) -> Hold | None:
    row = conn.execute(f"{_HOLD} WHERE h.id = ?", (hold_id,)).fetchone()
    return _hold(row) if row else None


def of_machine(conn: Connection, machine_id: int, *, also_ended: bool, limit: int) -> list[Hold]:
    """A machine's holds, newest first: those that hold something, or all."""
    where = "" if also_ended else "AND h.held_count > 0"
    rows = conn.execute(
        f"{_HOLD} WHERE h.machine_id = ? {where} ORDER BY h.id DESC LIMIT ?", (machine_id, limit)
    )
    return [_hold(row) for row in rows]


def items(conn: Connection, hold_id: int, *, words: str, after: int, limit: int) -> list[HeldItem]:
    """Things of a hold by number; of which a part of the path is `words`."""
    rows = conn.execute(
        """
        SELECT number, place, path, size, status, status_at FROM held_items
        WHERE hold_id = :hold AND number > :after
          AND (:words = '' OR instr(lower(path), lower(:words)) > 0)
        ORDER BY number LIMIT :limit
        """,
        {"hold": hold_id, "after": after, "words": words, "limit": limit},
    )
    return [
        HeldItem(
            number=row["number"],
            place=row["place"],
            path=row["path"],
            size=row["size"],
            status=row["status"],
            status_at=None if row["status_at"] is None else from_seconds(row["status_at"]),
        )
        for row in rows
    ]


def chosen(conn: Connection, pick: HeldPick) -> tuple[BatchPick, Tally]:
    """What a pick stands for on its machine, and how much of it is held now."""
    batch = conn.execute("SELECT batch FROM holds WHERE id = ?", (pick.hold_id,)).fetchone()[0]
    where = "status = 'held' AND hold_id = ?"
    marks: list[int] = [pick.hold_id]
    if pick.numbers:
        where += f" AND number IN ({','.join('?' * len(pick.numbers))})"
        marks += pick.numbers
    row = conn.execute(
        f"SELECT count(*), cast(total(size) AS INTEGER) FROM held_items WHERE {where}", marks
    ).fetchone()
    return BatchPick(batch=batch, numbers=pick.numbers), Tally(count=row[0], size=row[1])


def take(conn: Connection, machine_id: int, message: HeldMessage, run_id: int | None) -> None:
    """Things a machine holds; told again, they count once. `run_id`: by which run, where the
    records know it."""
    row = conn.execute(
        """
        INSERT INTO holds (machine_id, run_id, batch, category, mount, held_at, expires_at)
        VALUES (?, ?, ?, ?, ?, ?, ?)
        ON CONFLICT (machine_id, batch) DO UPDATE SET expires_at = excluded.expires_at
        RETURNING id
        """,
        (
            machine_id, run_id, message.batch, message.category, message.mount,
            to_seconds(message.held_at), to_seconds(message.expires_at),
        ),
    ).fetchone()  # fmt: skip
    hold_id = row["id"]
    numbers = [item.number for item in message.items]
    known = _known(conn, hold_id, numbers)
    new = [item for item in message.items if item.number not in known]
    conn.executemany(
        """
        INSERT INTO held_items (hold_id, number, place, path, size, status)
        VALUES (?, ?, ?, ?, ?, 'held')
        """,
        [
            (hold_id, held_item.number, held_item.place, held_item.path, held_item.size)
            for held_item in new
        ],
    )
    conn.execute(
        "UPDATE holds SET held_count = held_count + ?, held_size = min(held_size + ?, ?)"
        " WHERE id = ?",
        (len(new), min(sum(each.size for each in new), _MOST_HELD), _MOST_HELD, hold_id),
    )


def _known(conn: Connection, hold_id: int, numbers: Sequence[int]) -> frozenset[int]:
    if not numbers:
        return frozenset()
    rows = conn.execute(
        "SELECT number FROM held_items WHERE hold_id = ? AND number BETWEEN ? AND ?",
        (hold_id, min(numbers), max(numbers)),
    )
    return frozenset(row["number"] for row in rows)


AT_ONCE = 10_000
"""Things whose fate is written in one step."""


def end(
    conn: Connection, machine_id: int, message: UnheldMessage, *, begin: int, most: int = AT_ONCE
) -> int | None:
    """Things a machine holds no longer, from a number on; what has another fate already keeps it.

    At most `most` of them; the number from which to go on, None where all is done.
    """
    row = conn.execute(
        "SELECT id FROM holds WHERE machine_id = ? AND batch = ?", (machine_id, message.batch)
    ).fetchone()
    if row is None:
        return None
    count = size = 0
    go_on: int | None = None
    for first, last in _merged(message.numbers, begin):
        if count >= most:
            go_on = first
            break
        rows = conn.execute(
            """
            UPDATE held_items SET status = ?, status_at = ? WHERE hold_id = ? AND number IN (
                SELECT number FROM held_items
                WHERE hold_id = ? AND number BETWEEN ? AND ? AND status = 'held'
                ORDER BY number LIMIT ?)
            RETURNING number, size
            """,
            (
                message.status, to_seconds(message.at), row["id"], row["id"], first, last,
                most - count,
            ),
        ).fetchall()  # fmt: skip
        count, size = count + len(rows), size + sum(ended["size"] for ended in rows)
        if count >= most and rows:
            reached = max(ended["number"] for ended in rows)
            if reached < last:
                go_on = reached + 1
                break
    to = "back" if message.status == "put back" else "deleted"
    conn.execute(
        f"""
        UPDATE holds SET held_count = held_count - :count, held_size = max(held_size - :size, 0),
               {to}_count = {to}_count + :count, {to}_size = min({to}_size + :size, :most)
        WHERE id = :id
        """,
        {"count": count, "size": min(size, _MOST_HELD), "most": _MOST_HELD, "id": row["id"]},
    )
    return go_on


def _merged(ranges: Iterable[tuple[int, int]], begin: int) -> list[tuple[int, int]]:
    """The same numbers in stretches that do not touch, ascending, from one on: however often a
    number is told, it costs once."""
    merged: list[tuple[int, int]] = []
    for first, last in sorted((max(first, begin), last) for first, last in ranges):
        if first > last:
            continue
        if merged and first <= merged[-1][1] + 1:
            merged[-1] = merged[-1][0], max(last, merged[-1][1])
        else:
            merged.append((first, last))
    return merged
