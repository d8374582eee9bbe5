"""Digests of what runs' entries stand on, with their salts."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator
from sqlite3 import Connection

from phylax.core.ground.chain import SALT_BYTES
from phylax.core.record.evidence import Evidence, EvidenceKind, digest_of

_GONE = "it is not kept any more"
_ALTERED = "it is not what its entry says: it was altered"


def seal(conn: Connection, run_id: int) -> dict[str, str] | None:
    """The digests for a run's entry, their salts kept; None where it stands on nothing."""
    digests: dict[str, str] = {}
    for what in EvidenceKind:
        salt = secrets.token_bytes(SALT_BYTES)
        digest, count = digest_of(salt, _lines(conn, run_id, what))
        if count:
            digests[what.value] = digest
            conn.execute(
                "INSERT OR REPLACE INTO run_evidence VALUES (?, ?, ?, ?)",
                (run_id, what.value, salt, digest),
            )
    return digests or None


def checked(conn: Connection, run_id: int) -> list[Evidence]:
    """What a run's entry stands on, compared with what the entry says."""
    row = conn.execute("SELECT evidence FROM records WHERE run_id = ?", (run_id,)).fetchone()
    said: dict[str, str] = json.loads(row[0]) if row and row[0] else {}
    kept = conn.execute("SELECT kind, salt FROM run_evidence WHERE run_id = ?", (run_id,))
    salts: dict[str, bytes] = {row["kind"]: row["salt"] for row in kept}
    return [
        _checked(conn, run_id, what, said[what], salts.get(what))
        for what in EvidenceKind
        if what in said
    ]


def _checked(
    conn: Connection, run_id: int, what: EvidenceKind, said: str, salt: bytes | None
) -> Evidence:
    digest, count = digest_of(salt or b"", _lines(conn, run_id, what))
    why = "" if salt is not None and digest == said else _ALTERED
    if why and not count:
        why = _GONE
    return Evidence(what=what, digest=said, lines=count, valid=not why, why=why)


def _lines(conn: Connection, run_id: int, what: EvidenceKind) -> Iterator[str]:
    match what:
        case EvidenceKind.LISTING:
            # as it was kept: a later version of ours must not write it otherwise
            rows = conn.execute(
                """
                SELECT a.id, i.number, i.item FROM consents a
                JOIN consent_items c ON c.consent_id = a.id
                JOIN survey_items i ON i.survey_id = a.survey_id AND i.category = a.category
                     AND i.number = c.number
                WHERE a.run_id = ? ORDER BY a.id, c.number
                """,
                (run_id,),
            )
            for row in rows:
                yield json.dumps(list(row))
        case EvidenceKind.CONSENTS:
            rows = conn.execute(
                """
                SELECT id, survey_id, category, whole, items, size, given_by, via, comment, given_at
                FROM consents WHERE run_id = ? ORDER BY id
                """,
                (run_id,),
            )
            for row in rows:
                yield json.dumps(list(row))
        case EvidenceKind.OUTCOMES:
            row = conn.execute("SELECT result FROM runs WHERE id = ?", (run_id,)).fetchone()
            if row and row[0]:
                yield row[0]
