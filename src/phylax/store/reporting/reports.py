"""Reports for clients, kept as they were made, and the head of the shop's papers."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from datetime import date
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.values import from_seconds
from phylax.core.reporting.document import Document
from phylax.core.reporting.request import (
    Letterhead,
    LetterheadEdit,
    Report,
    ReportRequest,
    ReportWhole,
)

_COLUMNS = """
    r.id, r.client_id, c.name AS client_name, r.visit_id AS visit, r.title, r.language, r.first,
    r.last, r.made_by, r.made_at, r.sent_to, r.sent_at,
    (SELECT group_concat(tag, char(10)) FROM (
        SELECT m.tag FROM report_machines o JOIN machines m ON m.id = o.machine_id
        WHERE o.report_id = r.id ORDER BY m.tag)) AS tags
"""
_OF = "FROM reports r JOIN clients c ON c.id = r.client_id"


class NewReport(NamedTuple):
    """A report to be kept."""

    client_id: int
    machine_ids: Sequence[int]
    entries: Sequence[int]
    asked: ReportRequest
    first: date
    last: date
    document: Document
    seal: str
    pdf: bytes


def _fields(conn: Connection, row: sqlite3.Row) -> dict[str, object]:
    names = (
        "id", "client_id", "client_name", "visit", "title", "language", "first", "last", "made_by",
        "sent_to",
    )  # fmt: skip
    entries = conn.execute(
        "SELECT entry FROM report_entries WHERE report_id = ? ORDER BY entry", (row["id"],)
    )
    return {name: row[name] for name in names} | {
        "machine_tags": (row["tags"] or "").split("\n"),
        "entries": [entry[0] for entry in entries],
        "made_at": from_seconds(row["made_at"]),
        "sent_at": None if row["sent_at"] is None else from_seconds(row["sent_at"]),
    }


def listed(
    conn: Connection,
    *,
    client_id: int | None = None,
    machine_id: int | None = None,
    visit: int | None = None,
    before: int,
    limit: int,
) -> list[Report]:
    """The newest first, before a number."""
    rows = conn.execute(
        f"""
        SELECT {_COLUMNS} {_OF}
        WHERE r.id < :before AND (:client IS NULL OR r.client_id = :client)
          AND (:visit IS NULL OR r.visit_id = :visit)
          AND (:machine IS NULL OR r.id IN
               (SELECT report_id FROM report_machines WHERE machine_id = :machine))
        ORDER BY r.id DESC LIMIT :limit
        """,
        {
            "before": before, "client": client_id, "visit": visit, "machine": machine_id,
            "limit": limit,
        },
    ).fetchall()  # fmt: skip
    return [Report.model_validate(_fields(conn, row)) for row in rows]


def report(conn: Connection, number: int) -> ReportWhole | None:
    row = conn.execute(
        f"SELECT {_COLUMNS}, r.document, r.seal {_OF} WHERE r.id = ?", (number,)
    ).fetchone()
    if row is None:
        return None
    document = Document.model_validate_json(row["document"])
    fields = _fields(conn, row) | {"document": document, "seal": row["seal"]}
    return ReportWhole.model_validate(fields)


def asked(conn: Connection, number: int) -> ReportRequest:
    """What a report was asked to be about."""
    row = conn.execute("SELECT request FROM reports WHERE id = ?", (number,)).fetchone()
    return ReportRequest.model_validate_json(row[0])


def pdf(conn: Connection, number: int) -> bytes | None:
    row = conn.execute("SELECT pdf FROM reports WHERE id = ?", (number,)).fetchone()
    return row[0] if row else None


def machines_of(conn: Connection, number: int) -> list[int]:
    rows = conn.execute(
        "SELECT machine_id FROM report_machines WHERE report_id = ? ORDER BY machine_id", (number,)
    )
    return [row[0] for row in rows]


def add(conn: Connection, new: NewReport, *, who: str, at: int) -> int:
    cursor = conn.execute(
        """
        INSERT INTO reports (client_id, visit_id, title, language, first, last, request, document,
                             seal, pdf, made_by, made_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            new.client_id, new.asked.visit, new.document.title, new.document.language,
            new.first.isoformat(), new.last.isoformat(), new.asked.model_dump_json(),
            new.document.model_dump_json(), new.seal, new.pdf, who, at,
        ),
    )  # fmt: skip
    number = int(cursor.lastrowid or 0)
    conn.executemany(
        "INSERT INTO report_machines VALUES (?, ?)",
        [(machine_id, number) for machine_id in new.machine_ids],
    )
    conn.executemany(
        "INSERT INTO report_entries VALUES (?, ?)", [(number, entry) for entry in new.entries]
    )
    return number


def note_sent(conn: Connection, number: int, to: str, *, at: int) -> None:
    conn.execute("UPDATE reports SET sent_to = ?, sent_at = ? WHERE id = ?", (to, at, number))


# --- the head of the shop's papers -----------------------------------------------------------


def letterhead(conn: Connection) -> Letterhead:
    row = conn.execute("SELECT *, mark_kind AS mark FROM letterhead").fetchone()
    if row is None:
        return Letterhead()
    names = (name for name in Letterhead.model_fields if name != "mark")
    return Letterhead.model_validate({name: row[name] for name in names} | {"mark": row[-1]})


def mark(conn: Connection) -> tuple[str, bytes]:
    """The shop's mark: its kind, empty where there is none, and its content."""
    row = conn.execute("SELECT mark_kind, mark FROM letterhead").fetchone()
    return (row[0], row[1] or b"") if row else ("", b"")


def put_letterhead(conn: Connection, edit: LetterheadEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        INSERT INTO letterhead (id, head, foot, terms, language, changed_by, changed_at)
        VALUES (1, ?, ?, ?, ?, ?, ?)
        ON CONFLICT (id) DO UPDATE SET head = excluded.head, foot = excluded.foot,
            terms = excluded.terms, language = excluded.language, version = version + 1,
            changed_by = excluded.changed_by, changed_at = excluded.changed_at
        """,
        (edit.head, edit.foot, edit.terms, edit.language, who, at),
    )


def put_mark(conn: Connection, kind: str, content: bytes, *, who: str, at: int) -> None:
    """The shop's mark; of an empty kind, it is taken away."""
    put = (kind, content or None, who, at)
    conn.execute(
        """
        INSERT INTO letterhead (id, head, foot, terms, language, mark_kind, mark, changed_by,
                                changed_at)
        VALUES (1, '', '', '', 'en', ?, ?, ?, ?)
        ON CONFLICT (id) DO UPDATE SET mark_kind = excluded.mark_kind, mark = excluded.mark,
            version = version + 1, changed_by = excluded.changed_by,
            changed_at = excluded.changed_at
        """,
        put,
    )


def letterhead_change(conn: Connection) -> tuple[str, int]:
    """Who changed it last, and when."""
    row = conn.execute("SELECT changed_by, changed_at FROM letterhead").fetchone()
    return (row[0], row[1]) if row else ("", 0)
