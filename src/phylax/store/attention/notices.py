"""Notices: who wants what, where it goes, each message and its fate."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.attention.notices import (
    Hook,
    HookEdit,
    MailServer,
    MailServerEdit,
    Notice,
    NoticeKind,
    NotifiedAttention,
    Wishes,
    WishesEdit,
)
from phylax.core.ground.values import from_seconds
from phylax.store.attention import attention

KEPT = 400 * 86400


# --- who wants what --------------------------------------------------------------------------

_WISHES = """
    SELECT p.id AS person_id, p.name AS person_name, w.mail, w.at_once, w.daily, w.weekly,
           w.quiet_from, w.quiet_until, w.version
    FROM people p LEFT JOIN notice_wishes w ON w.person_id = p.id
"""


def _wishes(row: sqlite3.Row) -> Wishes:
    if row["version"] is None:
        return Wishes(person_id=row["person_id"], person_name=row["person_name"])
    columns = {name: row[name] for name in Wishes.model_fields}
    return Wishes.model_validate(columns | {"mail": row["mail"] or None})


def wishes(conn: Connection, person_id: int) -> Wishes | None:
    row = conn.execute(f"{_WISHES} WHERE p.id = ?", (person_id,)).fetchone()
    return _wishes(row) if row else None


def all_wishes(conn: Connection) -> list[Wishes]:
    """Of everyone who can be written to."""
    rows = conn.execute(f"{_WISHES} WHERE p.active AND w.mail <> '' ORDER BY p.id")
    return [_wishes(row) for row in rows]


def put_wishes(conn: Connection, person_id: int, edit: WishesEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        INSERT INTO notice_wishes VALUES (?, ?, ?, ?, ?, ?, ?, 1, ?, ?)
        ON CONFLICT (person_id) DO UPDATE SET mail = excluded.mail, at_once = excluded.at_once,
            daily = excluded.daily, weekly = excluded.weekly, quiet_from = excluded.quiet_from,
            quiet_until = excluded.quiet_until, version = version + 1,
            changed_by = excluded.changed_by, changed_at = excluded.changed_at
        """,
        (
            person_id, edit.mail or "", edit.at_once, int(edit.daily), int(edit.weekly),
            edit.quiet_from and edit.quiet_from.isoformat("minutes"),
            edit.quiet_until and edit.quiet_until.isoformat("minutes"), who, at,
        ),
    )  # fmt: skip


# --- where it goes ---------------------------------------------------------------------------


def mail_server(conn: Connection) -> MailServer | None:
    row = conn.execute("SELECT settings, version FROM mail_server").fetchone()
    if row is None:
        return None
    return MailServer.model_validate(json.loads(row["settings"]) | {"version": row["version"]})


def put_mail_server(conn: Connection, edit: MailServerEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        INSERT INTO mail_server VALUES (1, ?, 1, ?, ?)
        ON CONFLICT (id) DO UPDATE SET settings = excluded.settings, version = version + 1,
            changed_by = excluded.changed_by, changed_at = excluded.changed_at
        """,
        (edit.model_dump_json(), who, at),
    )


def _hook(row: sqlite3.Row) -> Hook:
    return Hook(
        id=row["id"],
        name=row["name"],
        url=row["url"],
        at_once=row["at_once"],
        own_network=bool(row["own_network"]),
        made_by=row["made_by"],
        made_at=from_seconds(row["made_at"]),
    )


def hooks(conn: Connection) -> list[Hook]:
    rows = conn.execute("SELECT * FROM hooks WHERE withdrawn_at IS NULL ORDER BY id")
    return [_hook(row) for row in rows]


def hook(conn: Connection, hook_id: int) -> Hook | None:
    row = conn.execute(
        "SELECT * FROM hooks WHERE id = ? AND withdrawn_at IS NULL", (hook_id,)
    ).fetchone()
    return _hook(row) if row else None


def hook_secret(conn: Connection, hook_id: int) -> str:
    row = conn.execute("SELECT secret FROM hooks WHERE id = ?", (hook_id,)).fetchone()
    return str(row[0])


def add_hook(conn: Connection, edit: HookEdit, secret: str, *, who: str, at: int) -> int:
    cursor = conn.execute(
        "INSERT INTO hooks (name, url, at_once, own_network, secret, made_by, made_at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?)",
        (edit.name, edit.url, edit.at_once, int(edit.own_network), secret, who, at),
    )
    return int(cursor.lastrowid or 0)


def withdraw_hook(conn: Connection, hook_id: int, *, at: int) -> None:
    """Nothing is sent there any more, and what waits is given up."""
    conn.execute("UPDATE hooks SET withdrawn_at = ?, secret = '' WHERE id = ?", (at, hook_id))
    conn.execute(
        """
        UPDATE notices SET state = 'given up', error = 'the hook was withdrawn', ended_at = ?
        WHERE hook_id = ? AND state = 'waiting'
        """,
        (at, hook_id),
    )


# --- messages --------------------------------------------------------------------------------


class Message(NamedTuple):
    """A message to be sent, with the text of its mail, or the body for its hook."""

    notice: Notice
    hook_id: int | None
    body: str
    html: str
    report_id: int | None = None
    pdf: bytes = b""
    """What goes with it."""


def _notice(row: sqlite3.Row) -> Notice:
    return Notice(
        id=row["id"],
        uid=row["uid"],
        kind=row["kind"],
        receiver=row["receiver"],
        by_mail=row["hook_id"] is None,
        subject=row["subject"],
        made_at=from_seconds(row["made_at"]),
        due_at=from_seconds(row["due_at"]),
        tries=row["tries"],
        state=row["state"],
        error=row["error"],
        ended_at=None if row["ended_at"] is None else from_seconds(row["ended_at"]),
    )


class Outgoing(NamedTuple):
    """A message to be sent, by mail to a person or to a hook."""

    uid: str
    kind: NoticeKind
    receiver: str
    subject: str
    body: str
    due_at: int
    html: str = ""
    person_id: int | None = None
    hook_id: int | None = None
    about: tuple[int, ...] = ()
    """Numbers of the attention that it tells of."""
    report_id: int | None = None
    """The report that goes with it."""


def add(conn: Connection, message: Outgoing, *, at: int) -> bool:
    """A message to be sent; False where one with this uid was made before."""
    row = conn.execute(
        """
        INSERT OR IGNORE INTO notices
            (uid, kind, person_id, hook_id, receiver, subject, body, html, made_at, due_at,
             report_id)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id
        """,
        (
            message.uid, message.kind, message.person_id, message.hook_id, message.receiver,
            message.subject, message.body, message.html, at, message.due_at,
            message.report_id,
        ),
    ).fetchone()  # fmt: skip
    if row is None:
        return False
    conn.executemany(
        "INSERT INTO notice_attention VALUES (?, ?)",
        [(row["id"], attention_id) for attention_id in message.about],
    )
    return True


def is_made(conn: Connection, uid: str) -> bool:
    return conn.execute("SELECT 1 FROM notices WHERE uid = ?", (uid,)).fetchone() is not None


def take_back_waiting(conn: Connection, person_id: int) -> list[int]:
    """Attention of which somebody still waits to be told at once; those messages are taken back,
    for one that tells it all."""
    rows = conn.execute(
        """
        SELECT n.id, a.attention_id FROM notices n
        LEFT JOIN notice_attention a ON a.notice_id = n.id
        WHERE n.state = 'waiting' AND n.kind = 'at once' AND n.person_id = ?
        """,
        (person_id,),
    ).fetchall()
    conn.execute(
        "DELETE FROM notices WHERE id IN (SELECT value FROM json_each(?))",
        (json.dumps(sorted({row[0] for row in rows})),),
    )
    return [row[1] for row in rows if row[1] is not None]


def last_at_once(conn: Connection) -> int:
    """When something was last told at once; 0 for never."""
    row = conn.execute(
        "SELECT made_at FROM notices WHERE kind = 'at once' ORDER BY id DESC LIMIT 1"
    ).fetchone()
    return row[0] if row else 0


def due(conn: Connection, *, at: int, limit: int, by_mail: bool | None) -> list[Message]:
    """What is to be sent, by mail, to hooks or (None) both."""
    rows = conn.execute(
        """
        SELECT n.*, r.pdf FROM notices n LEFT JOIN reports r ON r.id = n.report_id
        WHERE n.state = 'waiting' AND n.due_at <= :at
        AND (:by_mail IS NULL OR (hook_id IS NULL) = :by_mail) ORDER BY due_at LIMIT :limit
        """,
        {"at": at, "by_mail": by_mail, "limit": limit},
    )
    return [
        Message(
            _notice(row), row["hook_id"], row["body"], row["html"], row["report_id"],
            row["pdf"] or b"",
        )
        for row in rows
    ]  # fmt: skip


def delivered(conn: Connection, notice_id: int, *, at: int) -> None:
    conn.execute(
        "UPDATE notices SET state = 'delivered', tries = tries + 1, error = '', ended_at = ?"
        " WHERE id = ?",
        (at, notice_id),
    )


def failed(conn: Connection, notice_id: int, error: str, *, again_at: int | None, at: int) -> None:
    """A try came to nothing; without another one it is given up."""
    conn.execute(
        """
        UPDATE notices SET tries = tries + 1, error = :error, due_at = coalesce(:again, due_at),
               state = iif(:again IS NULL, 'given up', 'waiting'),
               ended_at = iif(:again IS NULL, :at, NULL)
        WHERE id = :id
        """,
        {"id": notice_id, "error": error[:400], "again": again_at, "at": at},
    )


def again(conn: Connection, notice_id: int, *, at: int) -> bool:
    """One that was given up is tried anew."""
    cursor = conn.execute(
        """
        UPDATE notices SET state = 'waiting', tries = 0, due_at = ?, ended_at = NULL
        WHERE id = ? AND state = 'given up' AND (hook_id IS NULL
            OR EXISTS (SELECT 1 FROM hooks h WHERE h.id = hook_id AND h.withdrawn_at IS NULL))
        """,
        (at, notice_id),
    )
    return cursor.rowcount > 0


def notice(conn: Connection, notice_id: int) -> Notice | None:
    row = conn.execute("SELECT * FROM notices WHERE id = ?", (notice_id,)).fetchone()
    return _notice(row) if row else None


def notices(conn: Connection, *, before: int, limit: int, state: str | None) -> list[Notice]:
    """The log, newest first, before a number."""
    rows = conn.execute(
        """
        SELECT * FROM notices WHERE id < :before AND (:state IS NULL OR state = :state)
        ORDER BY id DESC LIMIT :limit
        """,
        {"before": before, "state": state, "limit": limit},
    )
    return [_notice(row) for row in rows]


def forget_old(conn: Connection, *, at: int) -> None:
    conn.execute("DELETE FROM notices WHERE made_at < ?", (at - KEPT,))


# --- what was told ---------------------------------------------------------------------------


def anything_untold(conn: Connection) -> bool:
    """Whether anything is open that was never told, or got worse since."""
    row = conn.execute(
        """
        SELECT 1 FROM attention
        WHERE ended_at IS NULL AND (notified_grade IS NULL OR grade > notified_grade) LIMIT 1
        """
    ).fetchone()
    return row is not None


def told(conn: Connection, *, at: int) -> list[NotifiedAttention]:
    """All open attention, with how bad it was when it was last told."""
    known = {
        row["id"]: row
        for row in conn.execute(
            "SELECT id, notified_grade, began_at FROM attention WHERE ended_at IS NULL"
        )
    }
    return [
        NotifiedAttention(
            attention=item,
            told_grade=known[item.id]["notified_grade"],
            began_at=from_seconds(known[item.id]["began_at"]),
        )
        for item in attention.all_open(conn, at=at)
    ]


def note_told(conn: Connection, items: Iterable[tuple[int, int]]) -> None:
    """That these (attention, grade) are told."""
    conn.executemany(
        "UPDATE attention SET notified_grade = ? WHERE id = ?",
        [(grade, attention_id) for attention_id, grade in items],
    )
