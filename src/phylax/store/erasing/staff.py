"""The name of somebody who left the shop, out of all that they did; what they did stays."""

from __future__ import annotations

import json
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.record.records import Entry, Erased, RecordKind
from phylax.core.record.searching import other_spellings
from phylax.store.erasing.slices import in_slices, values
from phylax.store.erasing.sweep import keys_of
from phylax.store.file.data_map import Holds, columns_of
from phylax.store.file.database import Database
from phylax.store.people import people
from phylax.store.record import audit, records

_CHAINED = frozenset({"records", "record_parts", "audit", "audit_parts"})
_THEIRS = (
    "sessions", "known_browsers", "tokens", "one_time_links", "passkeys", "notice_wishes", "views",
)  # fmt: skip
_SERVICE = "the service"


def forget_person(database: Database, person_id: int, *, at: int) -> int:
    """How much was changed. Of two people with one name nobody can say who did what: then only how
    they signed in goes."""
    with database.read() as conn:
        row = conn.execute("SELECT * FROM people WHERE id = ?", (person_id,)).fetchone()
        name, login = row["name"], row["login"]
        alike = conn.execute("SELECT count(*) FROM people WHERE name = ?", (name,)).fetchone()[0]
    put = f"Former {row['role']} {person_id}"
    count = 0
    if alike == 1:
        count += _out_of_entries(database, name, at)
        count += _out_of_deeds(database, name, login, at)
        count += _out_of_rows(database, name, put)
    with database.write() as conn:
        for table in _THEIRS:
            conn.execute(f"DELETE FROM {table} WHERE person_id = ?", (person_id,))
        conn.execute(
            "DELETE FROM idempotency WHERE actor = ? OR instr(body, ?)",
            (f"person:{person_id}", json.dumps(name, ensure_ascii=False)),
        )
        people.end_everything(conn, person_id, at=at)
        conn.execute(
            """
            UPDATE people SET name = ?, login = ?, password = '', codes_secret = NULL,
                   forgotten_at = ? WHERE id = ?
            """,
            (put, f"former-{person_id}", at, person_id),
        )
    return count + 1


def _out_of_entries(database: Database, name: str, at: int) -> int:
    with database.read() as conn:
        rows = values(
            conn.execute(
                """
                SELECT r.machine_id, r.id FROM record_parts p JOIN records r ON r.id = p.entry
                WHERE p.who = :name
                UNION ALL SELECT machine_id, id FROM records WHERE who = :name
                ORDER BY 1, 2
                """,
                {"name": name},
            )
        )
    machines: dict[int, list[int]] = {}
    for machine, number in rows:
        machines.setdefault(int(str(machine)), []).append(int(str(number)))
    for machine_id, numbers in machines.items():

        def act(conn: Connection, some: Sequence[int], machine_id: int = machine_id) -> None:
            _erase_author(conn, machine_id, some, at)

        in_slices(database, numbers, act)
    return len(rows)


def _erase_author(conn: Connection, machine: int, numbers: Sequence[int], at: int) -> None:
    over = Erased()
    for number in numbers:
        kept = records.kept(conn, number)
        assert kept is not None
        over.add(kept.record, kept.hashed)
    text = "The name of somebody who left the shop was erased from entries here."
    by_entry = records.append(
        conn,
        Entry(machine_id=machine, at=from_seconds(at), who=_SERVICE, kind=RecordKind.ERASURE,
              text=text, erasure=over.sum()),
    )  # fmt: skip
    listed = (json.dumps(list(numbers)),)
    conn.execute(records.OUT_OF_INDEX, listed)
    conn.executemany("INSERT INTO erased_entries VALUES (?, ?)", [(n, by_entry) for n in numbers])
    texts = conn.execute(
        "SELECT entry, text FROM record_parts WHERE entry IN (SELECT value FROM json_each(?))",
        listed,
    ).fetchall()
    conn.executemany(
        "UPDATE record_parts SET who = NULL, who_salt = NULL, folded = ? WHERE entry = ?",
        [(other_spellings(text or ""), entry) for entry, text in texts],
    )
    conn.execute(
        "UPDATE records SET who = '' WHERE who <> '' AND id IN (SELECT value FROM json_each(?))",
        listed,
    )
    conn.execute(records.INTO_INDEX, listed)


def _out_of_deeds(database: Database, name: str, login: str, at: int) -> int:
    """What they did loses its author; what shows their name in what was before or after, as what
    was done to their account, loses those words."""
    with database.read() as conn:
        question = """
            SELECT s.id FROM (
                SELECT a.id, coalesce(p.who, a.who, '') AS who,
                       coalesce(p.subject, a.subject, '') AS subject,
                       coalesce(p.before, a.before, '') || coalesce(p.after, a.after, '') AS said
                FROM audit a LEFT JOIN audit_parts p ON p.audit_id = a.id) s
        """
        about = [
            row[0]
            for row in conn.execute(
                f"{question} WHERE s.subject IN (:name, :login) OR instr(s.said, :said)"
                " OR instr(s.said, :named) OR instr(s.subject, :signing_in) = 1 ORDER BY s.id",
                {
                    "name": name,
                    "login": login,
                    "signing_in": f"{login} from ",
                    "said": f'"login":{json.dumps(login)}',
                    "named": json.dumps(name, ensure_ascii=False),
                },
            )
        ]
        theirs = [
            row[0] for row in conn.execute(f"{question} WHERE s.who = ? ORDER BY s.id", (name,))
        ]
    subject = "actions about somebody who left"
    in_slices(
        database, about,
        lambda conn, some: audit.erase(conn, some, who=_SERVICE, at=at, subject=subject),
    )  # fmt: skip
    in_slices(
        database, theirs, lambda conn, some: audit.erase_authors(conn, some, who=_SERVICE, at=at)
    )
    return len(about) + len(theirs)


def _out_of_rows(database: Database, name: str, put: str) -> int:
    count = 0
    for table, column in columns_of(Holds.STAFF):
        if table in _CHAINED or table == "people" or table in _THEIRS:
            continue
        with database.read() as conn:
            keys = keys_of(conn, table)
            rows = values(
                conn.execute(f"SELECT {', '.join(keys)} FROM {table} WHERE {column} = ?", (name,))
            )
        named = " AND ".join(f"{key} = ?" for key in keys)
        question = f"UPDATE {table} SET {column} = ? WHERE {named}"

        def act(
            conn: Connection, some: Sequence[tuple[object, ...]], question: str = question
        ) -> None:
            conn.executemany(question, [(put, *key) for key in some])

        in_slices(database, rows, act)
        count += len(rows)
    return count
