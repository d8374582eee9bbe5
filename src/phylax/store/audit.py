"""Who did what, with what was there before and after."""

from __future__ import annotations

import json
import sqlite3
from hashlib import sha256

from phylax.core.people import Audited
from phylax.core.records import FIRST, ChainCheck
from phylax.core.seals import Sealed
from phylax.core.values import from_seconds

Connection = sqlite3.Connection


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
    said = {"at": at, "who": who, "deed": deed, "subject": subject, "before": before,
            "after": after, "previous": previous}  # fmt: skip
    # kept as it was hashed: other languages write the same values otherwise
    hashed = json.dumps(said, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    conn.execute(
        """
        INSERT INTO audit (at, who, deed, subject, before, after, hashed, digest)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (at, who, deed, subject, before, after, hashed, _digest(hashed)),
    )


def _digest(text: str) -> str:
    return sha256(text.encode("utf-8", "surrogatepass")).hexdigest()


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
    rows = conn.execute("SELECT * FROM audit WHERE digest IS NOT NULL ORDER BY id")
    for row in rows:
        number += 1
        said = json.loads(row["hashed"])
        shown = {name: row[name] for name in ("at", "who", "deed", "subject", "before", "after")}
        why = ""
        if said["previous"] != previous:
            why = "it does not follow the deed before it: one was taken out or put in"
        elif _digest(row["hashed"]) != row["digest"] or said != shown | {"previous": previous}:
            why = "its text does not fit its digest: it was altered"
        if why:
            return ChainCheck(entries=number, intact=False, broken_at=row["id"], why=why)
        previous = row["digest"]
    return ChainCheck(entries=number, intact=True)


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
    rows = conn.execute(
        "SELECT * FROM audit WHERE id < ? ORDER BY id DESC LIMIT ?", (before, limit)
    )
    return [
        Audited.model_validate(
            {name: row[name] for name in Audited.model_fields} | {"at": from_seconds(row["at"])}
        )
        for row in rows
    ]
