"""Words of entries and actions erased; the chain says so."""

from __future__ import annotations

import json
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.erasing.forgetting.words import Words
from phylax.core.ground.values import from_seconds
from phylax.core.record.records import Entry, Erased, RecordKind
from phylax.store.erasing.rows import rounds_of
from phylax.store.erasing.slices import in_slices
from phylax.store.erasing.sweep import roughly
from phylax.store.file.database import Database
from phylax.store.record import audit, records

_LOST = "coalesce(iif(r.hashed IS NULL, r.text, p.text), '') = ''"


def of_machines(conn: Connection, client_id: int) -> dict[int, list[int]]:
    """Entries of a client's machines that have words, by machine. Those that say what was erased
    keep theirs: they name nobody."""
    entries: dict[int, list[int]] = {}
    for machine, entry in conn.execute(
        f"""
        SELECT r.machine_id, r.id FROM machines m JOIN records r ON r.machine_id = m.id
        LEFT JOIN record_parts p ON p.entry = r.id
        WHERE m.client_id = ? AND r.erasure IS NULL AND NOT {_LOST} ORDER BY r.machine_id, r.id
        """,
        (client_id,),
    ):
        entries.setdefault(machine, []).append(entry)
    return entries


def naming(
    conn: Connection, client_id: int, words: Words, also: Sequence[str] = ()
) -> list[tuple[int, int, str]]:
    """Entries of other machines that name a client: machine, number, text; `also` by digest."""
    where, wanted = roughly(["coalesce(p.text, r.text)"], words)
    wanted["also"] = json.dumps(list(also))
    where = f"({where}) OR r.digest IN (SELECT value FROM json_each(:also)) AND NOT {_LOST}"
    rows = conn.execute(
        f"""
        SELECT r.machine_id, r.id, coalesce(p.text, r.text), r.digest FROM records r
        LEFT JOIN record_parts p ON p.entry = r.id JOIN machines m ON m.id = r.machine_id
        WHERE m.client_id <> :client AND ({where}) ORDER BY r.id
        """,
        wanted | {"client": client_id},
    )
    return [
        (machine, number, text)
        for machine, number, text, digest in rows
        if words.are_in(text) or digest in also
    ]


def erase_machine(
    database: Database, machine: int, entries: Sequence[int], *, who: str, at: int
) -> None:
    """All words of a machine's entries."""

    def act(conn: Connection, numbers: Sequence[int]) -> None:
        count = len(numbers)
        what = "Words of 1 entry erased" if count == 1 else f"Words of {count} entries erased"
        erase(conn, machine, numbers, f"{what}: the client was forgotten.", who=who, at=at)

    in_slices(database, entries, act)


def erase_naming(
    database: Database, client_id: int, words: Words, put: str, *, also: Sequence[str] = (),
    who: str, at: int,
) -> int:  # fmt: skip
    """Words of other machines' entries that name a client; what is left is written down anew. How
    many."""
    with database.read() as conn:
        entries = naming(conn, client_id, words, also)

    def act(conn: Connection, rows: Sequence[tuple[int, int, str]]) -> None:
        for machine, number, text in rows:
            said = f"Entry {number} named a client who was forgotten."
            if words.are_in(text):
                said += f" What is left of it: {words.taken_out(text, put)}"
            erase(conn, machine, [number], said, who=who, at=at)

    in_slices(database, entries, act)
    return len(entries)


def erase(
    conn: Connection, machine: int, numbers: Sequence[int], text: str, *, who: str, at: int
) -> None:
    """Take the words of entries away, but for who of the shop wrote them; an entry says so."""
    over = Erased()
    for number in numbers:
        kept = records.kept(conn, number)
        assert kept is not None
        over.add(kept.record, kept.hashed)
    by_entry = records.append(
        conn,
        Entry(
            machine_id=machine, at=from_seconds(at), who=who, kind=RecordKind.ERASURE, text=text,
            erasure=over.sum(),
        ),
    )  # fmt: skip
    listed = (json.dumps(list(numbers)),)
    # out of the index as it was put in, and in again as it is now
    conn.execute(records.OUT_OF_INDEX, listed)
    conn.executemany(
        "INSERT INTO erased_entries VALUES (?, ?)", [(number, by_entry) for number in numbers]
    )
    conn.execute(
        """
        UPDATE record_parts SET text = NULL, text_salt = NULL, folded = '',
               who_salt = iif(who IN (SELECT name FROM people), who_salt, NULL),
               who = iif(who IN (SELECT name FROM people), who, NULL)
        WHERE entry IN (SELECT value FROM json_each(?))
        """,
        listed,
    )
    conn.execute(
        """
        UPDATE records SET text = '', who = iif(who IN (SELECT name FROM people), who, '')
        WHERE text <> '' AND id IN (SELECT value FROM json_each(?))
        """,
        listed,
    )
    conn.execute("DELETE FROM attachments WHERE entry IN (SELECT value FROM json_each(?))", listed)
    conn.execute(records.INTO_INDEX, listed)


def erase_deeds(
    database: Database, client_id: int, machines: Sequence[int], words: Words, subject: str,
    *, who: str, at: int,
) -> None:  # fmt: skip
    """Actions that name a client, or show one of theirs as it was."""
    where, wanted = roughly(["s.who", "s.subject", "s.before", "s.after"], words)
    with database.read() as conn:
        rounds = [name for _, name in rounds_of(conn, client_id, machines)]
    wanted["rounds"] = json.dumps(rounds)
    marks = [f'"client_id":{client_id},', f'"client_id":{client_id}}}']
    marks += [f'"machine_id":{machine},' for machine in machines]
    more = " OR ".join(
        f"instr(s.before, :mark{n}) OR instr(s.after, :mark{n})" for n in range(len(marks))
    )
    wanted |= {f"mark{n}": mark for n, mark in enumerate(marks)}
    with database.read() as conn:
        rows = conn.execute(
            f"""
            SELECT s.* FROM (
                SELECT a.id, coalesce(p.who, a.who, '') AS who,
                       coalesce(p.subject, a.subject, '') AS subject,
                       coalesce(p.before, a.before, '') AS before,
                       coalesce(p.after, a.after, '') AS after
                FROM audit a LEFT JOIN audit_parts p ON p.audit_id = a.id) s
            WHERE {where} OR {more} OR s.subject IN (SELECT value FROM json_each(:rounds))
            ORDER BY s.id
            """,
            wanted,
        ).fetchall()
    actions = [
        row["id"]
        for row in rows
        if row["subject"] in rounds
        or words.are_in("\n".join(row[1:]))
        or any(mark in text for mark in marks for text in row[3:])
    ]
    in_slices(
        database, actions,
        lambda conn, some: audit.erase(conn, some, who=who, at=at, subject=subject),
    )  # fmt: skip
