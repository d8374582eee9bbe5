"""Maintenance records: appended, never changed, chained by digest."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterator, Sequence
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.chain import FIRST, Part, digest_of
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.record.records import (
    PERSONAL,
    Entry,
    KeptEntry,
    Record,
    RecordKind,
    text_to_hash,
)
from phylax.core.record.searching import other_spellings, spelled_out
from phylax.store.clients import forgettings
from phylax.store.desk import visits

_NAMED_MONTHS = 40

_WHO = "coalesce(iif(r.hashed IS NULL, r.who, p.who), '')"
_ATTACHED = """iif(r.attachments IS NULL, NULL, (
        SELECT json_group_array(json_object('id', a.id, 'name', a.name, 'kind', a.kind,
                                            'size', a.size, 'sha256', a.sha256))
        FROM attachments a WHERE a.entry = r.id)) AS attached"""
_ERASED_BY = """(
        SELECT group_concat(e.by_entry) FROM erased_entries e WHERE e.entry = r.id) AS erased_by"""
_COLUMNS = f"""
    SELECT r.id, r.machine_id, r.at, r.kind, r.run_id, r.state, r.freed, r.removed_count,
           coalesce(iif(r.hashed IS NULL, r.who, p.who), '') AS who,
           coalesce(iif(r.hashed IS NULL, r.text, p.text), '') AS text, r.left_count, r.corrects,
           r.previous, r.digest, r.hashed, r.visit_id, r.attachments, r.evidence, r.erasure,
           {_ERASED_BY},
           p.who_salt, p.text_salt,
           {_ATTACHED},
           m.tag AS machine_tag, c.name AS client_name
"""
_JOINED = """
    LEFT JOIN record_parts p ON p.entry = r.id
    JOIN machines m ON m.id = r.machine_id
    JOIN clients c ON c.id = m.client_id
"""
_RECORD = f"{_COLUMNS} FROM records r {_JOINED}"
_FOUND = f"{_COLUMNS} FROM records_text t CROSS JOIN records r ON r.id = t.rowid {_JOINED}"
"""The index of words gives the newest first, and no more of them than are asked for."""


def append(conn: Connection, entry: Entry) -> int:
    """Add an entry to the chain; its number. It belongs to the visit that is open."""
    entry = entry.model_copy(update={"visit_id": visits.open_of(conn, entry.machine_id)})
    last = conn.execute("SELECT digest FROM records ORDER BY id DESC LIMIT 1").fetchone()
    previous = last[0] if last else FIRST
    parts = {name: Part.of(getattr(entry, name)) for name in PERSONAL}
    hashed = text_to_hash(entry, parts, previous)
    cursor = conn.execute(
        """
        INSERT INTO records (machine_id, at, who, kind, text, run_id, state, freed, removed_count,
                             left_count, corrects, visit_id, attachments, evidence, erasure,
                             previous, hashed, digest)
        VALUES (?, ?, '', ?, '', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            entry.machine_id, to_seconds(entry.at), entry.kind, entry.run_id, entry.state,
            entry.freed, entry.removed_count, entry.left_count, entry.corrects, entry.visit_id,
            _json(entry.attachments), _json(entry.evidence),
            entry.erasure and entry.erasure.model_dump_json(), previous, hashed, digest_of(hashed),
        ),
    )  # fmt: skip
    number = int(cursor.lastrowid or 0)
    conn.execute(
        """
        INSERT INTO record_parts (entry, who, who_salt, text, text_salt, folded)
        VALUES (?, ?, ?, ?, ?, ?)
        """,
        (
            number,
            entry.who,
            parts["who"].salt,
            entry.text,
            parts["text"].salt,
            other_spellings(f"{entry.text} {entry.who}"),
        ),
    )
    return number


def _json(value: object) -> str | None:
    return None if value is None else json.dumps(value)


def _record(row: sqlite3.Row) -> Record:
    fields = {name: row[name] for name in Record.model_fields if name != "erased"}
    fields |= {
        "at": from_seconds(row["at"]),
        "attachments": row["attachments"] and json.loads(row["attachments"]),
        "evidence": row["evidence"] and json.loads(row["evidence"]),
        "erasure": row["erasure"] and json.loads(row["erasure"]),
        "erased": row["erased_by"] is not None and not row["text"],
        "attached": json.loads(row["attached"] or "[]"),
    }
    return Record.model_validate(fields)


def record(conn: Connection, record_id: int) -> Record | None:
    row = conn.execute(f"{_RECORD} WHERE r.id = ?", (record_id,)).fetchone()
    return _record(row) if row else None


OUT_OF_INDEX = """
    INSERT INTO records_text (records_text, rowid, text, who, tag, client, folded, marks)
    SELECT 'delete', id, text, who, tag, client, folded, marks FROM record_words
    WHERE id IN (SELECT value FROM json_each(?))
"""
"""Entries, by a list of their numbers, before something of them changes."""
INTO_INDEX = """
    INSERT INTO records_text (rowid, text, who, tag, client, folded, marks)
    SELECT id, text, who, tag, client, folded, marks FROM record_words
    WHERE id IN (SELECT value FROM json_each(?))
"""
"""The same afterwards."""


def of_run(conn: Connection, run_id: int) -> int | None:
    """The number of a run's entry."""
    row = conn.execute("SELECT id FROM records WHERE run_id = ?", (run_id,)).fetchone()
    return row[0] if row else None


class RecordChoice(NamedTuple):
    """Which entries a listing holds; nothing chosen means all of them."""

    machine_id: int | None = None
    client_id: int | None = None
    visit_id: int | None = None
    kinds: tuple[RecordKind, ...] = ()
    who: str = ""
    by: str = ""
    """The beginning of a name of who wrote it."""
    since: int | None = None
    until: int | None = None
    words: tuple[str, ...] = ()
    also_restricted: bool = True
    """Entries too of clients who are to be forgotten."""


def records(
    conn: Connection, choice: RecordChoice = RecordChoice(), *, before: int, limit: int
) -> list[Record]:
    """Entries chosen, newest first, before a number; with all of some words."""
    where = []
    values: dict[str, object] = {"before": before, "limit": limit}
    for term, value in (
        ("r.machine_id = :machine", choice.machine_id),
        ("m.client_id = :client", choice.client_id),
        ("r.visit_id = :visit", choice.visit_id),
        (f"{_WHO} = :who", choice.who or None),
        (f"{_WHO} LIKE :by ESCAPE '\\'", f"%{_literal(choice.by)}%" if choice.by else None),
        ("r.at >= :since", choice.since),
        ("r.at < :until", choice.until),
        (
            "r.kind IN (SELECT value FROM json_each(:kinds))",
            json.dumps(choice.kinds) if choice.kinds else None,
        ),
    ):
        if value is not None:
            where.append(term)
            values[_named_in(term)] = value
    if not choice.also_restricted:
        where.append(f"m.client_id {forgettings.NOT_RESTRICTED}")
    if match := _match_of(conn, choice):
        values["match"] = match
        where += ["records_text MATCH :match", "t.rowid < :before"]
        source, number = _FOUND, "t.rowid"
    else:
        where.append("r.id < :before")
        source, number = _RECORD, "r.id"
    rows = conn.execute(
        f"{source} WHERE {' AND '.join(where)} ORDER BY {number} DESC LIMIT :limit", values
    )
    return [_record(row) for row in rows]


def _match_of(conn: Connection, choice: RecordChoice) -> str:
    """What the index of words knows of a choice; empty where another index serves better.

    Machine, client, author, kind and month stand in it as well: a word that is in every third entry
    is found on one machine without going through all of them.
    """
    has_own_index = choice.machine_id is not None or choice.visit_id is not None
    if not choice.words and not choice.by and has_own_index:
        return ""
    terms = [matching(choice.words)] if choice.words else []
    for column, text in (
        ("tag", _name(conn, "SELECT tag FROM machines WHERE id = ?", choice.machine_id)),
        ("client", _name(conn, _CLIENT_NAME, choice.client_id)),
        ("who", choice.who),
    ):
        # a name of signs alone is no word of the index
        if re.search(r"\w", text):
            terms.append(f"{column} : {_quoted(text)}")
    terms += [f"who : {_quoted(word)} *" for word in choice.by.split() if re.search(r"\w", word)]
    if choice.kinds:
        kinds = " OR ".join(_quoted(kind) for kind in choice.kinds)
        terms.append(f"marks : ({kinds})")
    if months := _months(choice.since, choice.until):
        terms.append(f"marks : ({' OR '.join(months)})")
    return " AND ".join(f"({term})" for term in terms)


_CLIENT_NAME = "SELECT name FROM clients WHERE id = ? AND forgotten_at IS NULL"
"""The entries of the forgotten are not in the index by a name."""


def _name(conn: Connection, question: str, number: int | None) -> str:
    row = conn.execute(question, (number,)).fetchone() if number is not None else None
    return row[0] if row else ""


def _months(since: int | None, until: int | None) -> list[str]:
    """The months of a span as the index has them; none where there are too many to name."""
    if since is None:
        return []
    try:
        first = from_seconds(since)
        last = from_seconds(until) if until is not None else None
    except (ValueError, OverflowError):
        return []
    if last is None or (last - first).days > _NAMED_MONTHS * 28:
        return []
    count = (last.year - first.year) * 12 + last.month - first.month + 1
    months = [first.year * 12 + first.month - 1 + number for number in range(count)]
    return [f"m{month // 12:04}{month % 12 + 1:02}" for month in months]


_OF_FIRST_FORM = """
    SELECT r.*, NULL AS hashed, NULL AS visit_id, NULL AS attachments, NULL AS evidence,
           NULL AS attached, NULL AS erasure, NULL AS erased_by,
           m.tag AS machine_tag, c.name AS client_name
    FROM records r JOIN machines m ON m.id = r.machine_id JOIN clients c ON c.id = m.client_id
"""


def chain(conn: Connection, client_id: int | None = None) -> Iterator[KeptEntry]:
    """Every entry from the first; also of a file of an earlier version. Of a client: only those of
    their machines."""
    columns = {row[1] for row in conn.execute("PRAGMA table_info(records)")}
    where = "" if client_id is None else "WHERE m.client_id = :client"
    question = f"{_of_columns(columns)} {where} ORDER BY r.id"
    for row in conn.execute(question, {"client": client_id}):
        yield _kept(row)


def _of_columns(columns: set[str]) -> str:
    """The question for entries, to a file that has these columns of them."""
    if "hashed" not in columns:
        return _OF_FIRST_FORM
    question = _RECORD
    if "erasure" not in columns:
        question = question.replace("r.erasure,", "NULL AS erasure,")
        question = question.replace(_ERASED_BY, "NULL AS erased_by")
    if "attachments" not in columns:
        question = question.replace(_ATTACHED, "NULL AS attached")
        question = question.replace("r.attachments,", "NULL AS attachments,")
        question = question.replace("r.evidence,", "NULL AS evidence,")
    if "visit_id" not in columns:
        question = question.replace("r.visit_id,", "NULL AS visit_id,")
    return question


def kept(conn: Connection, record_id: int) -> KeptEntry | None:
    """An entry with what its digest stands on."""
    row = conn.execute(f"{_RECORD} WHERE r.id = ?", (record_id,)).fetchone()
    return _kept(row) if row else None


def place_of(conn: Connection, record_id: int) -> int:
    """How many entries were written before one."""
    row = conn.execute("SELECT count(*) FROM records WHERE id < ?", (record_id,)).fetchone()
    return int(row[0])


def matching(words: Sequence[str]) -> str:
    """Entries with all of some words; empty where there are none."""
    return f"{{text who tag client folded}} : ({all_of(words)})" if words else ""


def all_of(words: Sequence[str]) -> str:
    """All of some words, the last as far as it was typed, each as it is written or spelled out.
    Each is quoted, so that what people type is never FTS5 syntax."""
    terms = []
    for number, word in enumerate(words):
        is_begun = number == len(words) - 1 and len(word) > 1 and word[-2:].isalnum()
        begun = "*" if is_begun else ""
        ways = dict.fromkeys((word, spelled_out(word)))
        quoted = [_quoted(way) + begun for way in ways]
        terms.append(f"({' OR '.join(quoted)})")
    return " AND ".join(terms)


def _named_in(term: str) -> str:
    """The name of a condition's value."""
    name = re.search(r":([a-z]+)", term)
    assert name is not None
    return name[1]


def _literal(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def _quoted(text: str) -> str:
    """What people type, as no syntax of the index."""
    return '"' + text.replace('"', '""') + '"'


def _kept(row: sqlite3.Row) -> KeptEntry:
    parts = {
        name: Part.kept(row[f"{name}_salt"], row[name])
        for name in (() if row["hashed"] is None else PERSONAL)
    }
    erased_by = tuple(int(number) for number in (row["erased_by"] or "").split(",") if number)
    return KeptEntry(_record(row), row["hashed"], parts, erased_by)


def digests(conn: Connection) -> Iterator[str]:
    """Of every entry from the first."""
    for _, digest in digests_after(conn, 0):
        yield digest


def digests_after(conn: Connection, number: int) -> Iterator[tuple[int, str]]:
    """Entries after one, in order: number and digest."""
    for row in conn.execute("SELECT id, digest FROM records WHERE id > ? ORDER BY id", (number,)):
        yield row[0], row[1]


def digest_at(conn: Connection, number: int) -> str:
    """An entry's digest; empty where it is not there."""
    row = conn.execute("SELECT digest FROM records WHERE id = ?", (number,)).fetchone()
    return row[0] if row else ""


def authors(conn: Connection) -> list[str]:
    """Who ever wrote an entry, by name."""
    rows = conn.execute(
        """
        SELECT who FROM records WHERE hashed IS NULL
        UNION SELECT who FROM record_parts WHERE who IS NOT NULL ORDER BY who COLLATE NOCASE
        """
    )
    return [row[0] for row in rows]
