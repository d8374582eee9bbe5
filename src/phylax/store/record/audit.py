"""Who did what, with what was there before and after."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from hashlib import sha256
from sqlite3 import Connection
from typing import Any

from phylax.core.ground.chain import FIRST, Link, Part, digest_of, hashed_text, why_broken
from phylax.core.ground.values import from_seconds
from phylax.core.people.accounts import AuditEntry
from phylax.core.record.records import ChainCheck, Erasure
from phylax.core.record.seals import Sealed

PERSONAL = ("who", "subject", "before", "after")
"""Fields of an audit entry that may name a person."""

_HASHED_ACTION = "deed"
"""The name of an action in the text that is hashed: as the first entries of the chain were
written."""

_ERASED_BY = """(
        SELECT group_concat(e.by_audit_id) FROM erased_audit e
        WHERE e.audit_id = a.id) AS erased_by"""
_DEED = f"""
    SELECT a.id, a.at, a.action, a.hashed, a.digest, p.who_salt, p.subject_salt, p.before_salt,
           p.after_salt, {_ERASED_BY}, coalesce(p.who, a.who) AS who,
           coalesce(p.subject, a.subject) AS subject,
           coalesce(p.before, a.before) AS before, coalesce(p.after, a.after) AS after
    FROM audit a LEFT JOIN audit_parts p ON p.audit_id = a.id
"""


def record(
    conn: Connection,
    *,
    who: str,
    at: int,
    action: str,
    subject: str,
    before: str | None = None,
    after: str | None = None,
    erasure: Erasure | None = None,
) -> int:
    """Note an action, with the digest of what was noted before it; its number."""
    last = conn.execute("SELECT digest FROM audit ORDER BY id DESC LIMIT 1").fetchone()
    previous = (last["digest"] or _of_older(conn)) if last else FIRST
    words = {"who": who, "subject": subject, "before": before, "after": after}
    parts = {name: Part.of(text) for name, text in words.items() if text is not None}
    content = {"at": at, _HASHED_ACTION: action, "erasure": erasure and erasure.model_dump()}
    hashed = hashed_text(content, parts, previous)
    cursor = conn.execute(
        "INSERT INTO audit (at, who, action, subject, hashed, digest) VALUES (?, '', ?, '', ?, ?)",
        (at, action, hashed, digest_of(hashed)),
    )
    kept = [value for name in PERSONAL for value in reversed(parts.get(name, (None, None)))]
    conn.execute(
        """
        INSERT INTO audit_parts (audit_id, who, who_salt, subject, subject_salt, before,
               before_salt,
                                 after, after_salt)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (cursor.lastrowid, *kept),
    )
    return int(cursor.lastrowid or 0)


def erase(conn: Connection, actions: Sequence[int], *, who: str, at: int, subject: str) -> None:
    """Take the words of actions away, but for who of the shop did them; an action says so."""
    rows = _note_erasure(conn, actions, who=who, at=at, subject=subject)
    for row in rows:
        conn.execute(
            """
            UPDATE audit_parts SET subject = NULL, subject_salt = NULL, before = NULL,
                   before_salt = NULL, after = NULL, after_salt = NULL,
                   who_salt = iif(who IN (SELECT name FROM people), who_salt, NULL),
                   who = iif(who IN (SELECT name FROM people), who, NULL) WHERE audit_id = ?
            """,
            (row["id"],),
        )
        # before there were parts, the words were hashed with all the rest
        is_of_parts = bool(_said(row["hashed"]).get("v"))
        conn.execute(
            """
            UPDATE audit SET subject = '', before = NULL, after = NULL, hashed = ?,
                   who = iif(who IN (SELECT name FROM people), who, '') WHERE id = ?
            """,
            (row["hashed"] if is_of_parts else None, row["id"]),
        )


def erase_authors(conn: Connection, actions: Sequence[int], *, who: str, at: int) -> None:
    """Take away who did some actions; an action says so."""
    subject = "who did some actions: somebody who left"
    for row in _note_erasure(conn, actions, who=who, at=at, subject=subject):
        conn.execute(
            "UPDATE audit_parts SET who = NULL, who_salt = NULL WHERE audit_id = ?", (row["id"],)
        )
        # before there were parts, the words were hashed with all the rest
        is_of_parts = bool(_said(row["hashed"]).get("v"))
        conn.execute(
            "UPDATE audit SET who = '', hashed = ? WHERE id = ?",
            (row["hashed"] if is_of_parts else None, row["id"]),
        )


def _note_erasure(
    conn: Connection, actions: Sequence[int], *, who: str, at: int, subject: str
) -> list[sqlite3.Row]:
    """The actions as they are now, and that they lose words."""
    rows = conn.execute(
        f"{_DEED} WHERE a.id IN (SELECT value FROM json_each(?)) ORDER BY a.id",
        (json.dumps(list(actions)),),
    ).fetchall()
    over = _Erased()
    for row in rows:
        over.add(row)
    by_audit_id = record(conn, who=who, at=at, action="erase", subject=subject, erasure=over.sum())
    conn.executemany(
        "INSERT INTO erased_audit VALUES (?, ?)", [(row["id"], by_audit_id) for row in rows]
    )
    return rows


class _Erased:
    """Goes over what stays of actions that lost their words, in their order."""

    def __init__(self) -> None:
        self._entries, self._over = 0, sha256()

    def add(self, row: sqlite3.Row) -> None:
        stays = f"{row['id']} {row['digest'] or ''} {row['at']} {row['action']}\n"
        self._over.update(stays.encode())
        self._entries += 1

    def sum(self) -> Erasure:
        return Erasure(entries=self._entries, digest=self._over.hexdigest())


def _of_older(conn: Connection) -> str:
    """A digest over all actions that were noted before there was a chain."""
    over = sha256()
    for row in conn.execute(
        "SELECT id, at, who, action, subject, before, after FROM audit WHERE digest IS NULL"
        " ORDER BY id"
    ):
        over.update(json.dumps(tuple(row), ensure_ascii=True).encode() + b"\n")
    return over.hexdigest()


def verify(conn: Connection) -> ChainCheck:
    """Follow the chain of actions."""
    older = conn.execute(f"{_DEED} WHERE a.digest IS NULL ORDER BY a.id").fetchall()
    sums: dict[int, _Erased] = {}
    for row in older:
        _note_erased(row, sums)
    # of actions that lost words, the digest cannot be computed anew: that they did, an action says
    previous = (_of_older(conn) if older else FIRST) if not sums else None
    number, erased = len(older), sum(bool(row["erased_by"]) for row in older)
    is_new_form = False
    for row in conn.execute(f"{_DEED} WHERE a.digest IS NOT NULL ORDER BY a.id"):
        number += 1
        said = _said(row["hashed"])
        if previous is None:
            previous = str(said.get("previous"))
        is_new_form = is_new_form or bool(said.get("v"))
        why = _why_broken(row, said, previous, is_new_form) or _why_not_erased(row, said, sums)
        if why:
            return ChainCheck(entries=number, intact=False, broken_at=row["id"], why=why)
        erased += bool(row["erased_by"])
        previous = row["digest"]
    if sums:
        why = "words were erased, and no action says so"
        return ChainCheck(entries=number, intact=False, broken_at=min(sums), why=why)
    return ChainCheck(entries=number, intact=True, erased=erased)


def _why_broken(row: sqlite3.Row, said: dict[str, Any], previous: str, is_new_form: bool) -> str:
    if said.get("v"):
        return why_broken(_link(row, said), previous, may_lack=bool(row["erased_by"]))
    if row["erased_by"] and row["hashed"] is None:
        return ""
    if is_new_form:
        return "it is of a form that was not written any more"
    return _why_older_is_broken(row, said, previous)


def _note_erased(row: sqlite3.Row, sums: dict[int, _Erased]) -> None:
    for number in (row["erased_by"] or "").split(","):
        if number:
            sums.setdefault(int(number), _Erased()).add(row)


def _why_not_erased(row: sqlite3.Row, said: dict[str, Any], sums: dict[int, _Erased]) -> str:
    """Why what is erased is not what an action says; takes off what that action settles."""
    _note_erased(row, sums)
    if "erasure" not in said:
        return ""
    if sums.pop(row["id"], _Erased()).sum().model_dump() != said["erasure"]:
        return "what it says was erased is not what is gone: something was altered"
    return ""


def _said(hashed: str | None) -> dict[str, Any]:
    try:
        said = json.loads(hashed or "")
    except (ValueError, RecursionError):
        return {}
    return said if isinstance(said, dict) else {}


def _link(row: sqlite3.Row, said: dict[str, Any]) -> Link:
    parts = {
        name: Part.kept(row[f"{name}_salt"], row[name])
        for name in PERSONAL
        # an action need not have a before and an after
        if name in said or row[f"{name}_salt"] is not None
    }
    content = {"at": row["at"], _HASHED_ACTION: row["action"], "erasure": said.get("erasure")}
    return Link(row["hashed"], row["digest"], content, parts)


def _why_older_is_broken(row: sqlite3.Row, said: dict[str, Any], previous: str) -> str:
    """Of an action that was chained before there were parts, with all its words hashed."""
    shown = {name: row[name] for name in ("at", *PERSONAL)}
    shown |= {_HASHED_ACTION: row["action"], "previous": previous}
    if said.get("previous") != previous:
        return "it does not follow the action before it: one was taken out or put in"
    if digest_of(row["hashed"]) != row["digest"] or said != shown:
        return "its text does not fit its digest: it was altered"
    return ""


def head(conn: Connection) -> tuple[int, str]:
    """How many actions there are, and the newest one's digest; empty where it has none."""
    count = conn.execute("SELECT count(*) FROM audit").fetchone()[0]
    last = conn.execute("SELECT digest FROM audit ORDER BY id DESC LIMIT 1").fetchone()
    return count, (last["digest"] or "") if last else ""


def why_not(conn: Connection, sealed: Sealed) -> str:
    """Why the audit is not what a seal says that it was; empty: it is."""
    row = conn.execute(
        "SELECT digest FROM audit ORDER BY id LIMIT 1 OFFSET ?", (max(0, sealed.audit_count - 1),)
    ).fetchone()
    if sealed.audit_count and (row is None or (row["digest"] or "") != sealed.audit_head):
        return "the audit is not what it was then"
    return ""


def listed(conn: Connection, *, before: int, limit: int) -> list[AuditEntry]:
    """Actions, newest first, before a number."""
    rows = conn.execute(f"{_DEED} WHERE a.id < ? ORDER BY a.id DESC LIMIT ?", (before, limit))
    return [
        AuditEntry.model_validate(
            {name: row[name] for name in AuditEntry.model_fields} | {"at": from_seconds(row["at"])}
        )
        for row in rows
    ]
