"""Looking things up over everything that the shop knows; of each kind the newest first."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Callable
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.quantities import show_day, show_size
from phylax.core.ground.values import from_seconds
from phylax.core.record.records import RecordKind
from phylax.core.record.searching import Hit, HitKind, spelled_out, without_marks
from phylax.store.clients import forgettings
from phylax.store.clients.shop import words_in
from phylax.store.record import records

_DIGITS = re.compile(r"[\d\s()/.+-]{3,}")
_LONGEST = 300
_OF_CLIENT = (
    "c.name || ' ' || c.contact || ' ' || c.mail || ' ' || c.phone || ' ' || c.agreements"
    " || ' ' || c.note"
)
_BARE_PHONE = (
    "replace(replace(replace(replace(replace(c.phone, ' ', ''), '-', ''), '/', ''), '(', ''),"
    " ')', '')"
)


class SearchRequest(NamedTuple):
    """What is looked for; times in epoch seconds, the last not among them."""

    words: tuple[str, ...]
    machine_id: int | None = None
    client_id: int | None = None
    since: int | None = None
    until: int | None = None
    by: str = ""
    kinds: tuple[RecordKind, ...] = ()
    also_restricted: bool = True
    """Clients too who are to be forgotten, and wait for their day."""

    @property
    def is_of_a_time(self) -> bool:
        return self.since is not None or self.until is not None

    @property
    def is_of_entries(self) -> bool:
        """Whether nothing but entries has what is asked for."""
        return bool(self.by or self.kinds)


def search(conn: Connection, asked: SearchRequest, kind: HitKind, *, limit: int) -> list[Hit]:
    """What fits of one kind."""
    asked = asked._replace(words=tuple(word for word in asked.words if word.strip()))
    if not any(asked[:-1]):
        return []
    if asked.is_of_entries and kind is not HitKind.ENTRY:
        return []
    return _SEARCHES[kind](conn, asked, limit)


def _scope(asked: SearchRequest, at: str = "") -> tuple[str, dict[str, object]]:
    """The condition on the machine `m`, and on a time."""
    terms = ["1"] if asked.also_restricted else [f"m.client_id {forgettings.NOT_RESTRICTED}"]
    values: dict[str, object] = {}
    for term, name, value in (
        ("m.id = :machine", "machine", asked.machine_id),
        ("m.client_id = :client", "client", asked.client_id),
        (f"{at} >= :since", "since", asked.since),
        (f"{at} < :until", "until", asked.until),
    ):
        if value is not None:
            terms.append(term)
            values[name] = value
    return " AND ".join(terms), values


def _machines(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    if asked.is_of_a_time or not asked.words:
        return []
    fields = ("m.tag", "c.name", "m.make", "m.model", "m.serial", "m.used_by", "m.used_for")
    where, values = words_in(fields, " ".join(asked.words))
    scope, scoped = _scope(asked)
    rows = conn.execute(
        f"""
        SELECT m.id, m.tag, m.make, m.model, m.serial, m.retired_at, c.name
        FROM machines m JOIN clients c ON c.id = m.client_id
        WHERE {where} AND {scope}
        ORDER BY m.retired_at IS NOT NULL, m.tag LIMIT :limit
        """,
        values | scoped | {"limit": limit},
    )
    return [
        Hit(
            kind=HitKind.MACHINE, id=row["id"], title=row["tag"],
            line=_joined(row["make"], row["model"], row["serial"],
                         "retired" if row["retired_at"] else ""),
            machine_tag=row["tag"], client_name=row["name"], page=f"/machines/{row['tag']}",
        )
        for row in rows
    ]  # fmt: skip


def _clients(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    if asked.is_of_a_time or asked.machine_id is not None or not asked.words:
        return []
    conn.create_function("spelled_out", 1, spelled_out, deterministic=True)
    conn.create_function("without_marks", 1, without_marks, deterministic=True)
    terms = []
    values: dict[str, object] = {}
    for number, word in enumerate(" ".join(asked.words).split()):
        values |= {f"s{number}": spelled_out(word), f"m{number}": without_marks(word)}
        tests = [
            f"instr(spelled_out({_OF_CLIENT}), :s{number})",
            f"instr(without_marks({_OF_CLIENT}), :m{number})",
        ]
        if _DIGITS.fullmatch(word):
            values[f"d{number}"] = re.sub(r"\D", "", word)
            tests.append(f"(:d{number} <> '' AND instr({_BARE_PHONE}, :d{number}))")
        terms.append(f"({' OR '.join(tests)})")
    if not asked.also_restricted:
        terms.append(f"c.id {forgettings.NOT_RESTRICTED}")
    where = " AND ".join(terms)
    if asked.client_id is not None:
        where += " AND c.id = :client"
        values["client"] = asked.client_id
    rows = conn.execute(
        f"""
        SELECT c.id, c.name, c.contact, c.phone, c.mail, c.retired_at FROM clients c
        WHERE {where} ORDER BY c.retired_at IS NOT NULL, c.name LIMIT :limit
        """,
        values | {"limit": limit},
    )
    return [
        Hit(
            kind=HitKind.CLIENT, id=row["id"], title=row["name"],
            line=_joined(row["contact"], row["phone"], row["mail"],
                         "retired" if row["retired_at"] else ""),
            client_name=row["name"], page=f"/clients/{row['id']}",
        )
        for row in rows
    ]  # fmt: skip


def _entries(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    choice = records.RecordChoice(
        machine_id=asked.machine_id, client_id=asked.client_id, kinds=asked.kinds, by=asked.by,
        since=asked.since, until=asked.until, words=asked.words,
        also_restricted=asked.also_restricted,
    )  # fmt: skip
    return [
        Hit(
            kind=HitKind.ENTRY, id=entry.id, title=entry.who,
            line=_around(entry.text, asked.words), machine_tag=entry.machine_tag,
            client_name=entry.client_name, at=entry.at,
            page=f"/visits/{entry.visit_id}" if entry.visit_id
            else f"/records?machine={entry.machine_tag}",
        )
        for entry in records.records(conn, choice, before=2**62, limit=limit)
    ]  # fmt: skip


def _visits(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    """By what was written of them: what the client said, where they stand, how they ended."""
    scope, values = _scope(asked, "v.opened_at")
    where = "1"
    if match := records.matching(asked.words):
        values["match"] = f"marks : visit AND {match}"
        where = """v.id IN (
            SELECT r.visit_id FROM records_text t CROSS JOIN records r ON r.id = t.rowid
            WHERE records_text MATCH :match AND r.kind = 'visit')"""
        if len(asked.words) == 1 and asked.words[0].isdecimal():
            values["number"] = int(asked.words[0][:15])
            where = f"({where} OR v.id = :number)"
    rows = conn.execute(
        f"""
        SELECT v.id, v.reported_problem, v.opened_at, v.outcome, m.tag, c.name FROM visits v
        JOIN machines m ON m.id = v.machine_id JOIN clients c ON c.id = m.client_id
        WHERE {where} AND {scope} ORDER BY v.id DESC LIMIT :limit
        """,
        values | {"limit": limit},
    )
    return [
        Hit(
            kind=HitKind.VISIT, id=row["id"], title=f"Visit {row['id']}",
            line=_around(f"{row['reported_problem']} ({row['outcome'] or 'open'})".strip(),
            asked.words),
            machine_tag=row["tag"], client_name=row["name"], at=from_seconds(row["opened_at"]),
            page=f"/visits/{row['id']}",
        )
        for row in rows
    ]  # fmt: skip


def _advice(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    where, values = words_in(("a.text", "a.comment", "a.kind", "a.status"), " ".join(asked.words))
    scope, scoped = _scope(asked, "a.at")
    rows = conn.execute(
        f"""
        SELECT a.id, a.text, a.status, a.at, m.tag, c.name FROM advice a
        JOIN machines m ON m.id = a.machine_id JOIN clients c ON c.id = m.client_id
        WHERE {where} AND {scope} ORDER BY a.at DESC, a.id DESC LIMIT :limit
        """,
        values | scoped | {"limit": limit},
    )
    return [
        Hit(
            kind=HitKind.ADVICE, id=row["id"], title=row["status"],
            line=_around(row["text"], asked.words), machine_tag=row["tag"],
            client_name=row["name"], at=from_seconds(row["at"]),
            page=f"/machines/{row['tag']}#advice",
        )
        for row in rows
    ]  # fmt: skip


_FILE = """
    SELECT n.id, n.run_id, n.why, w.path, w.place, coalesce(h.size, n.size) AS size, h.status,
           coalesce(h.status_at, o.held_at, r.ended_at) AS at, o.expires_at, m.tag, c.name
    FROM files_text t
    CROSS JOIN named_files n ON n.id = t.rowid
    JOIN file_words w ON w.id = n.id
    JOIN machines m ON m.id = n.machine_id
    JOIN clients c ON c.id = m.client_id
    LEFT JOIN held_items h ON h.hold_id = n.hold_id AND h.number = n.number
    LEFT JOIN holds o ON o.id = n.hold_id
    LEFT JOIN runs r ON r.id = n.run_id
"""


def _files(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    """What became of files that a cleaning held or left."""
    if not asked.words:
        return []
    scope, values = _scope(asked, "coalesce(h.status_at, o.held_at, r.ended_at)")
    values |= {"match": records.all_of(asked.words), "limit": limit}
    rows = conn.execute(
        f"""
        {_FILE}
        WHERE files_text MATCH :match AND {scope}
        ORDER BY t.rowid DESC LIMIT :limit
        """,
        values,
    )
    return [
        Hit(
            kind=HitKind.FILE, id=row["id"], title=re.split(r"[/\\]", row["path"])[-1],
            line=f"{_became(row)}, {show_size(row['size'])}: {row['place']}/{row['path']}",
            machine_tag=row["tag"], client_name=row["name"],
            at=None if row["at"] is None else from_seconds(row["at"]),
            page=f"/runs/{row['run_id']}" if row["run_id"] else f"/machines/{row['tag']}#held",
        )
        for row in rows
    ]  # fmt: skip


def _became(row: sqlite3.Row) -> str:
    if row["status"] is None:
        return f"left, {row['why']}"
    if row["status"] == "held":
        return f"held until {show_day(from_seconds(row['expires_at']))}"
    return "deleted for good" if row["status"] == "gone" else "put back"


def _programs(conn: Connection, asked: SearchRequest, limit: int) -> list[Hit]:
    if asked.is_of_a_time or not asked.words:
        return []
    where, values = words_in(("name",), " ".join(asked.words))
    names = conn.execute(f"SELECT name FROM program_names WHERE {where} LIMIT 200", values)
    scope, scoped = _scope(asked)
    rows = conn.execute(
        f"""
        SELECT i.machine_id, i.name, i.version, i.taken_at, m.tag, c.name AS client
        FROM json_each(:names) n
        CROSS JOIN installed i ON i.name = n.value
        JOIN machines m ON m.id = i.machine_id JOIN clients c ON c.id = m.client_id
        WHERE m.retired_at IS NULL AND {scope} LIMIT :limit
        """,
        scoped | {"names": json.dumps([row[0] for row in names]), "limit": limit},
    )
    return [
        Hit(
            kind=HitKind.PROGRAM, id=row["machine_id"], title=row["name"], line=row["version"],
            machine_tag=row["tag"], client_name=row["client"], at=from_seconds(row["taken_at"]),
            page=f"/machines/{row['tag']}#installed",
        )
        for row in rows
    ]  # fmt: skip


_SEARCHES: dict[HitKind, Callable[[Connection, SearchRequest, int], list[Hit]]] = {
    HitKind.MACHINE: _machines,
    HitKind.CLIENT: _clients,
    HitKind.VISIT: _visits,
    HitKind.FILE: _files,
    HitKind.ADVICE: _advice,
    HitKind.PROGRAM: _programs,
    HitKind.ENTRY: _entries,
}


def _joined(*parts: str) -> str:
    return ", ".join(part for part in parts if part)


def _around(text: str, words: tuple[str, ...]) -> str:
    """What of a text is shown: from a little before the first word that is in it."""
    line = " ".join(text.split())
    if len(line) <= _LONGEST:
        return line
    places = [at for word in words if (at := line.casefold().find(word.casefold())) >= 0]
    begin = max(0, min(places, default=0) - _LONGEST // 4)
    before = "…" if begin else ""
    after = "…" if begin + _LONGEST < len(line) else ""
    return f"{before}{line[begin : begin + _LONGEST]}{after}"
