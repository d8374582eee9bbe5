"""What was erased the chain says, and nothing else can be; and by which words it is found."""

from __future__ import annotations

import shutil
import sqlite3
from pathlib import Path

import pytest

from forgotten_shop import (
    FORGET,
    GO_ON,
    NOTE,
    bytes_below,
    check_indexes,
    left_in,
)
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Client, Machine
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.erasing.forgetting.words import Words, name_somebody
from phylax.core.record.records import Entry, RecordKind, digest, verify
from phylax.service.context.context import Context
from phylax.store.record import audit, records
from verifiers import run_verifier


def test_entries_of_the_first_form_lose_their_words_too(
    by_hand: None, owner: Phylax, context: Context, other: Machine, tmp_path: Path
) -> None:
    with context.db.write() as conn:
        conn.execute("DROP TRIGGER records_are_not_removed")
        conn.execute("DROP TRIGGER record_parts_are_not_removed")
        conn.execute("DELETE FROM record_parts")
        conn.execute("DELETE FROM records")
        conn.execute("INSERT INTO records_text (records_text) VALUES ('rebuild')")
        entry = Entry(machine_id=other.id, at=context.clock(), who="Ines", kind=RecordKind.NOTE,
                      text=f"{NOTE} in the fan.")  # fmt: skip
        conn.execute(
            "INSERT INTO records (machine_id, at, who, kind, text, previous, digest)"
            " VALUES (?, ?, 'Ines', 'note', ?, ?, ?)",
            (other.id, context.now(), entry.text, "0" * 64, digest(entry, "0" * 64)),
        )
        conn.execute("INSERT INTO records_text (records_text) VALUES ('rebuild')")
        # and actions that were noted before there was a chain, and before there were parts
        conn.execute("DROP TRIGGER audit_is_not_removed")
        conn.execute("DROP TRIGGER audit_parts_are_not_removed")
        conn.execute("DELETE FROM audit_parts")
        conn.execute("DELETE FROM audit")
        conn.execute(
            "INSERT INTO audit (at, who, action, subject)"
            " VALUES (1, 'Ines', 'note', 'Tidewrack Pottery')"
        )
        audit.record(conn, who="Ines", at=2, action="note", subject="Tidewrack Pottery")
        assert audit.verify(conn).intact and verify(records.chain(conn)).intact
    client = owner.clients.retire(owner.clients.get(other.client_id))
    owner.clients.forget(client, Forget())
    GO_ON(context)
    with context.db.write() as conn:
        checked = verify(records.chain(conn))
        assert checked.intact and checked.erased >= 2, checked
        said = audit.verify(conn)
        assert said.intact and said.erased >= 3, said
        check_indexes(conn)
    owner.archives.record(tmp_path / "record.zip")
    shutil.unpack_archive(tmp_path / "record.zip", tmp_path / "record")
    assert b'"hashed":null' in bytes_below(tmp_path / "record")
    for language in ("python", "sh"):
        verified = run_verifier(tmp_path / "record/record", language)
        assert verified.returncode == 0, verified.stdout + verified.stderr
    folder = context.db.path.parent
    assert left_in(bytes_below(folder)) == [] and b"Tidewrack" not in bytes_below(folder)


TAMPERED = [
    "UPDATE record_parts SET text = NULL, text_salt = NULL WHERE entry = (SELECT max(r.id)"
    " FROM records r WHERE r.kind = 'note' AND r.machine_id = {other})",
    "DELETE FROM erased_entries WHERE entry = (SELECT min(entry) FROM erased_entries)",
    "INSERT INTO erased_entries VALUES ((SELECT max(id) FROM records WHERE kind = 'note'),"
    " (SELECT min(id) FROM records WHERE kind = 'erasure'))",
    "INSERT INTO erased_entries VALUES ((SELECT max(id) FROM records WHERE kind = 'note'), 1)",
    "UPDATE records SET freed = 7 WHERE id = (SELECT min(entry) FROM erased_entries)",
    "UPDATE records SET erasure = json_set(erasure, '$.entries', 1) WHERE kind = 'erasure'",
]


@pytest.mark.parametrize("number", range(len(TAMPERED)))
def test_whoever_takes_words_out_by_hand_is_found_out(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, other: Machine, number: int
) -> None:
    owner.clients.forget(lived[0], FORGET)
    GO_ON(context)
    owner.records.add_note(other.id, "Kiln dust.")
    assert owner.records.verify().intact
    with context.db.write() as conn:
        for (name,) in conn.execute(
            "SELECT name FROM sqlite_schema WHERE type = 'trigger' AND name LIKE '%_are_not_%'"
        ).fetchall():
            conn.execute(f"DROP TRIGGER {name}")
        assert conn.execute(TAMPERED[number].format(other=other.id)).rowcount > 0
    assert not owner.records.verify().intact


def test_nothing_but_what_was_erased_can_be_changed(
    lived: tuple[Client, Agent], owner: Phylax, context: Context
) -> None:
    owner.clients.forget(lived[0], FORGET)
    GO_ON(context)
    for sql in (
        "UPDATE record_parts SET text = NULL WHERE text IS NOT NULL",
        "UPDATE record_parts SET text = 'x' WHERE text IS NULL",
        "UPDATE records SET digest = 'x' WHERE id IN (SELECT entry FROM erased_entries)",
        "UPDATE audit_parts SET subject = 'x' WHERE subject IS NULL",
        "UPDATE audit SET action = 'x' WHERE id IN (SELECT audit_id FROM erased_audit)",
    ):
        with pytest.raises(sqlite3.IntegrityError), context.db.write() as conn:
            conn.execute(sql)


# --- words ----------------------------------------------------------------------------------------


def test_words_that_name_others_too_are_not_looked_for() -> None:
    words = Words(
        name_somebody(
            names=["Mill", "Ed"], persons=["Anna", "Anna Vane"], tags=["pc-1"], mails=[""],
            phones=["112", "555 0123"], serials=["none", "0000", "AB123"],
        )
    )  # fmt: skip
    assert {*words.all} == {"Mill", "Anna Vane", "pc-1", "555 0123", "AB123"}
    for text in ("Miller", "pc-12", "my-pc-1", "Anna said", "WindMill", "xAB123"):
        assert not words.are_in(text), text
    for text in ("the Mill's", "mill", "pc-1:", "Anna\n Vane", '{"tag":"pc-1"}', "(AB123)"):
        assert words.are_in(text), text
    assert words.taken_out("Mill, Miller, mill", "-") == "-, Miller, -"
    assert Words(['Ö "x"']).are_in('{"a":"\\u00d6 \\"x\\""}')
    assert not Words([]).are_in("") and Words([]).taken_out("a", "b") == "a"
