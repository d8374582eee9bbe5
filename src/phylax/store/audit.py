"""Who did what, with what was there before and after."""

from __future__ import annotations

import json
import sqlite3
from hashlib import sha256
from typing import Any

from phylax.core.chain import FIRST, Link, Part, digest_of, hashed_text, why_broken
from phylax.core.people import Audited
from phylax.core.records import ChainCheck
from phylax.core.seals import Sealed
from phylax.core.values import from_seconds

Connection = sqlite3.Connection
PERSONAL = ("who", "subject", "before", "after")
"""What of a deed may be about a person."""

_DEED = """
    SELECT a.id, a.at, a.deed, a.hashed, a.digest, p.who_salt, p.subject_salt, p.before_salt,
           p.after_salt, coalesce(p.who, a.who) AS who, coalesce(p.subject, a.subject) AS subject,
           coalesce(p.before, a.before) AS before, coalesce(p.after, a.after) AS after
    FROM audit a LEFT JOIN audit_parts p ON p.deed = a.id
"""


def record(
    conn: Connection,
    *,
    who: str,
    at: int,
    deed: str,
    subject: str,
    before: str | None = None,
    after: str | None = None,
) -> None:
    """Note a deed, with the digest of what was noted before it."""
    last = conn.execute("SELECT digest FROM audit ORDER BY id DESC LIMIT 1").fetchone()
    previous = (last["digest"] or _of_older(conn)) if last else FIRST
    words = {"who": who, "subject": subject, "before": before, "after": after}
    parts = {name: Part.of(text) for name, text in words.items() if text is not None}
    hashed = hashed_text({"at": at, "deed": deed}, parts, previous)
    cursor = conn.execute(
        "INSERT INTO audit (at, who, deed, subject, hashed, digest) VALUES (?, '', ?, '', ?, ?)",
        (at, deed, hashed, digest_of(hashed)),
    )
    kept = [value for name in PERSONAL for value in reversed(parts.get(name, (None, None)))]
    conn.execute(
        """
        INSERT INTO audit_parts (deed, who, who_salt, subject, subject_salt, before, before_salt,
                                 after, after_salt)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (cursor.lastrowid, *kept),
    )


def _of_older(conn: Connection) -> str:
    """A digest over all deeds that were noted before there was a chain."""
    over = sha256()
    for row in conn.execute(
        "SELECT id, at, who, deed, subject, before, after FROM audit WHERE digest IS NULL"
        " ORDER BY id"
    ):
        over.update(json.dumps(tuple(row), ensure_ascii=True).encode() + b"\n")
    return over.hexdigest()


def verify(conn: Connection) -> ChainCheck:
    """Follow the chain of deeds."""
    older = conn.execute("SELECT count(*) FROM audit WHERE digest IS NULL").fetchone()[0]
    previous = _of_older(conn) if older else FIRST
    number = older
    is_new_form = False
    for row in conn.execute(f"{_DEED} WHERE a.digest IS NOT NULL ORDER BY a.id"):
        number += 1
        said = _said(row["hashed"])
        if said.get("v"):
            is_new_form = True
            why = why_broken(_link(row, said), previous)
        else:
            why = (
                "it is of a form that was not written any more"
                if is_new_form
                else _why_older_is_broken(row, said, previous)
            )
        if why:
            return ChainCheck(entries=number, intact=False, broken_at=row["id"], why=why)
        previous = row["digest"]
    return ChainCheck(entries=number, intact=True)


def _said(hashed: str) -> dict[str, Any]:
    try:
        said = json.loads(hashed)
    except (ValueError, RecursionError):
        return {}
    return said if isinstance(said, dict) else {}


def _link(row: sqlite3.Row, said: dict[str, Any]) -> Link:
    parts = {
        name: Part.kept(row[f"{name}_salt"], row[name])
        for name in PERSONAL
        # a deed need not have a before and an after
        if name in said or row[f"{name}_salt"] is not None
    }
    return Link(row["hashed"], row["digest"], {"at": row["at"], "deed": row["deed"]}, parts)


def _why_older_is_broken(row: sqlite3.Row, said: dict[str, Any], previous: str) -> str:
    """Of a deed that was chained before there were parts, with all its words hashed."""
    shown = {name: row[name] for name in ("at", "deed", *PERSONAL)} | {"previous": previous}
    if said.get("previous") != previous:
        return "it does not follow the deed before it: one was taken out or put in"
    if digest_of(row["hashed"]) != row["digest"] or said != shown:
        return "its text does not fit its digest: it was altered"
    return ""


def head(conn: Connection) -> tuple[int, str]:
    """How many deeds there are, and the newest one's digest; empty where it has none."""
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


def listed(conn: Connection, *, before: int, limit: int) -> list[Audited]:
    """Deeds, newest first, before a number."""
    rows = conn.execute(f"{_DEED} WHERE a.id < ? ORDER BY a.id DESC LIMIT ?", (before, limit))
    return [
        Audited.model_validate(
            {name: row[name] for name in Audited.model_fields} | {"at": from_seconds(row["at"])}
        )
        for row in rows
    ]
