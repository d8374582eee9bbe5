"""Clients that are to be forgotten, and what names them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Sequence
from datetime import datetime
from sqlite3 import Connection

from phylax.core.erasing.forgetting.request import Forget, Forgetting
from phylax.core.erasing.forgetting.words import Words, name_somebody
from phylax.core.ground.values import from_seconds

_FORGETTING = """
    SELECT f.*, c.name AS client_name FROM forgettings f JOIN clients c ON c.id = f.client_id
"""


NOT_RESTRICTED = "NOT IN (SELECT client_id FROM forgettings WHERE state <> 'done')"
"""Of who is to be forgotten, nothing is shown but to the owner."""


def _forgetting(row: sqlite3.Row) -> Forgetting:
    return Forgetting(
        id=row["id"],
        client_id=row["client_id"],
        client_name=row["client_name"],
        requested_at=from_seconds(row["requested_at"]),
        requested_by=row["requested_by"],
        why=row["why"],
        postponed_until=_moment(row["postponed_until"]),
        with_backups=bool(row["with_backups"]),
        state=row["state"],
        waits_for=row["waits_for"],
        ended_at=_moment(row["ended_at"]),
        entries=row["entries"],
    )


def _moment(seconds: int | None) -> datetime | None:
    return None if seconds is None else from_seconds(seconds)


def add(
    conn: Connection, client_id: int, asked: Forget, until: int | None, *, who: str, at: int
) -> int:
    cursor = conn.execute(
        """
        INSERT INTO forgettings (client_id, requested_at, requested_by, why, postponed_until,
               with_backups,
                                 state, words)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (client_id, at, who, asked.why, until, int(asked.with_backups),
         "waiting" if until is None else "postponed", _json(asked.words)),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def get(conn: Connection, number: int) -> Forgetting | None:
    row = conn.execute(f"{_FORGETTING} WHERE f.id = ?", (number,)).fetchone()
    return _forgetting(row) if row else None


def of_client(conn: Connection, client_id: int) -> Forgetting | None:
    """The newest of a client's."""
    row = conn.execute(
        f"{_FORGETTING} WHERE f.client_id = ? ORDER BY f.id DESC LIMIT 1", (client_id,)
    ).fetchone()
    return _forgetting(row) if row else None


def listed(conn: Connection) -> list[Forgetting]:
    """The newest first."""
    return [_forgetting(row) for row in conn.execute(f"{_FORGETTING} ORDER BY f.id DESC")]


def due(conn: Connection, *, at: int) -> list[Forgetting]:
    """Those that are to begin, or to go on."""
    rows = conn.execute(
        """
        SELECT f.*, c.name AS client_name FROM forgettings f INDEXED BY forgettings_not_done
        JOIN clients c ON c.id = f.client_id
        WHERE f.state <> 'done' AND (f.state <> 'postponed' OR f.postponed_until <= ?)
        ORDER BY f.id
        """,
        (at,),
    )
    return [_forgetting(row) for row in rows]


def call_off(conn: Connection, number: int) -> None:
    conn.execute("DELETE FROM forgettings WHERE id = ?", (number,))


def begin(conn: Connection, number: int, words: Words, *, at: int) -> None:
    conn.execute(
        """
        UPDATE forgettings SET state = 'under way', words = ?, began_at = coalesce(began_at, ?)
        WHERE id = ?
        """,
        (_json(words.all), at, number),
    )


def _json(words: Sequence[str]) -> str:
    return json.dumps(list(words), ensure_ascii=False)


def words(conn: Connection, number: int) -> Words:
    row = conn.execute("SELECT words FROM forgettings WHERE id = ?", (number,)).fetchone()
    return Words(json.loads(row[0]))


def note(conn: Connection, number: int, *, entries: int = 0, waits_for: str = "") -> None:
    conn.execute(
        "UPDATE forgettings SET entries = entries + ?, waits_for = ? WHERE id = ?",
        (entries, waits_for, number),
    )


def wipe(conn: Connection, number: int) -> None:
    """What was looked for is not needed any more, and is to be gone itself."""
    conn.execute("UPDATE forgettings SET words = '[]', why = '' WHERE id = ?", (number,))


def end(conn: Connection, number: int, *, at: int) -> None:
    conn.execute(
        "UPDATE forgettings SET state = 'done', waits_for = '', ended_at = ? WHERE id = ?",
        (at, number),
    )


def words_of(conn: Connection, client_id: int) -> Words:
    """What names a client now, and ever did."""
    names, persons, tags, mails, phones, serials = (set[str]() for _ in range(6))
    for client in _forms(conn, "client", client_id):
        names.add(str(client.get("name") or ""))
        persons.add(str(client.get("contact") or ""))
        mails.add(str(client.get("mail") or ""))
        phones.add(str(client.get("phone") or ""))
    machines = conn.execute("SELECT id FROM machines WHERE client_id = ?", (client_id,)).fetchall()
    for (machine_id,) in machines:
        for machine in _forms(conn, "machine", machine_id):
            tags.add(str(machine.get("tag") or ""))
            serials.add(str(machine.get("serial") or ""))
            persons.add(str(machine.get("used_by") or ""))
    return Words(
        name_somebody(
            names=names, persons=persons, tags=tags, mails=mails, phones=phones, serials=serials
        )
    )


def _forms(conn: Connection, kind: str, number: int) -> Iterator[dict[str, object]]:
    """A client or a machine as it is, and as it was before and after each change."""
    table = f"{kind}s"
    yield dict(conn.execute(f"SELECT * FROM {table} WHERE id = ?", (number,)).fetchone())
    rows = conn.execute(
        """
        SELECT coalesce(p.before, a.before), coalesce(p.after, a.after)
        FROM audit a LEFT JOIN audit_parts p ON p.audit_id = a.id
        WHERE a.action IN (:change, :add, :take_in, :retire, :return)
        """,
        {"change": f"change {kind}", "add": f"add {kind}", "take_in": f"take in {kind}",
         "retire": f"retire {kind}", "return": f"bring {kind} back"},
    )  # fmt: skip
    for row in rows:
        for text in row:
            said = json.loads(text) if text else None
            if isinstance(said, dict) and said.get("id") == number:
                yield said
