"""Days on which the shop or a client is closed."""

from __future__ import annotations

from datetime import date
from sqlite3 import Connection

from phylax.core.clients.shop import ClosingDays, ClosingDaysEdit
from phylax.core.scheduling.timing import Closed


def closing_days(conn: Connection) -> list[ClosingDays]:
    """All of them, in order of time."""
    rows = conn.execute(
        """
        SELECT d.id, d.client_id, c.name AS client_name, d.first, d.last, d.name
        FROM closing_days d LEFT JOIN clients c ON c.id = d.client_id ORDER BY d.first, d.id
        """
    )
    return [ClosingDays.model_validate(dict(row)) for row in rows]


def by_client(conn: Connection) -> dict[int | None, tuple[Closed, ...]]:
    """For every client that has its own: theirs and the shop's; the shop's under None."""
    own: dict[int | None, list[Closed]] = {None: []}
    for row in conn.execute("SELECT client_id, first, last FROM closing_days"):
        closed = Closed(date.fromisoformat(row["first"]), date.fromisoformat(row["last"]))
        own.setdefault(row["client_id"], []).append(closed)
    shops = own[None]
    return {
        client_id: tuple(sorted(days if client_id is None else [*shops, *days]))
        for client_id, days in own.items()
    }


def add(conn: Connection, edit: ClosingDaysEdit, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO closing_days (client_id, first, last, name, added_by, added_at)
        VALUES (?, ?, ?, ?, ?, ?)
        """,
        (edit.client_id, edit.first.isoformat(), edit.last.isoformat(), edit.name, who, at),
    )
    return int(cursor.lastrowid or 0)


def remove(conn: Connection, closing_id: int) -> bool:
    return conn.execute("DELETE FROM closing_days WHERE id = ?", (closing_id,)).rowcount > 0
