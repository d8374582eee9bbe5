"""Seals: whoever keeps one can tell whether the record was cut off, altered or written anew."""

from __future__ import annotations

import base64
import json
import shutil
import sqlite3
import subprocess
from contextlib import closing
from hashlib import sha256
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Service
from phylax.client import Phylax, RefusedError
from phylax.core import seals
from phylax.core.records import FIRST, Entry, digest
from phylax.core.shop import Machine
from phylax.service import sealing
from phylax.service.backups import making
from phylax.service.context.context import Context
from phylax.store import audit, records
from phylax.store.database import Database, migrations


def plain_root(leaves: list[bytes]) -> bytes:
    """RFC 9162, 2.1.1, word for word."""
    if not leaves:
        return sha256(b"").digest()
    if len(leaves) == 1:
        return sha256(b"\x00" + leaves[0]).digest()
    split = 1
    while split * 2 < len(leaves):
        split *= 2
    return sha256(b"\x01" + plain_root(leaves[:split]) + plain_root(leaves[split:])).digest()


@given(st.lists(st.binary(min_size=32, max_size=32), max_size=70))
def test_the_root_is_that_of_the_standard(leaves: list[bytes]) -> None:
    assert seals.root_of(leaf.hex() for leaf in leaves) == plain_root(leaves)


def note_some(owner: Phylax, machine: Machine, number: int) -> None:
    for n in range(number):
        owner.records.add_note(machine.id, f"note {n}")


def altered(context: Context, sql: str) -> None:
    """As somebody does who can write the file."""
    with closing(sqlite3.connect(context.db.path, timeout=20)) as conn, conn:
        for name in ("records_are_not_changed", "records_are_not_removed", "audit_is_not_changed",
                     "audit_is_not_removed"):  # fmt: skip
            conn.execute(f"DROP TRIGGER IF EXISTS {name}")
        conn.execute(sql)


def test_a_seal_holds_while_entries_are_added(owner: Phylax, machine: Machine) -> None:
    note_some(owner, machine, 5)
    seal = owner.records.seal()
    note_some(owner, machine, 3)
    said = owner.records.check_seal(seal.note)
    assert (said.holds, said.count, said.since) == (True, seal.count, 3)
    assert owner.records.check_seal(owner.records.seal().note).since == 0
    assert [kept.note for kept in owner.records.seals()][-1] == seal.note


def test_what_the_chain_alone_does_not_show_a_seal_does(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 5)
    seal = owner.records.seal()
    altered(context, f"DELETE FROM records WHERE id > {seal.count - 2}")
    assert owner.records.verify().intact, "the chain alone"
    said = owner.records.check_seal(seal.note)
    assert not said.holds and "2 of its entries are not there" in said.why
    altered(context, "DELETE FROM records")
    assert owner.records.verify().intact
    assert not owner.records.check_seal(seal.note).holds


def test_a_chain_computed_anew_is_found_out(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 4)
    seal = owner.records.seal()
    with context.db.read() as conn:
        entries = [Entry.model_validate(r.model_dump()) for r in records.chain(conn)]
    previous = FIRST
    for number, entry in enumerate(entries, 1):
        forged = entry.model_copy(update={"text": "Nothing was removed."})
        altered(context, f"UPDATE records SET text = 'Nothing was removed.', previous = "
                         f"'{previous}', digest = '{digest(forged, previous)}' "
                         f"WHERE id = {number}")  # fmt: skip
        previous = digest(forged, previous)
    assert owner.records.verify().intact
    assert "not those that were sealed" in owner.records.check_seal(seal.note).why


def test_a_seal_that_was_altered_or_is_of_another_shop_is_none(
    owner: Phylax, machine: Machine, context: Context, tmp_path: Path
) -> None:
    note_some(owner, machine, 2)
    note = owner.records.seal().note
    first, count, rest = note.split("\n", 2)
    fewer = f"{first}\n{int(count) - 1}\n{rest}"
    assert "altered" in owner.records.check_seal(fewer).why
    (context.db.path.parent / sealing.KEY).rename(tmp_path / "key")
    assert "another key" in owner.records.check_seal(note).why
    shutil.copy(tmp_path / "key", context.db.path.parent / sealing.KEY)
    assert owner.records.check_seal(note).holds
    for odd in ("no seal", note.replace("chain ", "chian "), note.partition("\n\n")[0],
                f"{first}\n{'9' * 40}\n{rest}"):  # fmt: skip
        with pytest.raises(RefusedError, match="no seal"):
            owner.records.check_seal(odd)
    assert (tmp_path / "key").stat().st_mode & 0o077 == 0


def test_openssl_alone_can_check_a_seal(owner: Phylax, machine: Machine, tmp_path: Path) -> None:
    note_some(owner, machine, 2)
    note = owner.records.seal().note
    text, _, signed = note.partition("\n\n")
    (tmp_path / "body").write_text(text + "\n", "utf-8")
    (tmp_path / "sig").write_bytes(base64.b64decode(signed.split()[-1])[4:])
    (tmp_path / "key.pem").write_text(owner.records.seal_key().public_key)
    command = ["openssl", "pkeyutl", "-verify", "-pubin", "-inkey", "key.pem", "-rawin",
               "-in", "body", "-sigfile", "sig"]  # fmt: skip
    assert subprocess.run(command, cwd=tmp_path, capture_output=True).returncode == 0
    (tmp_path / "body").write_text(text.replace("chain", "chein") + "\n", "utf-8")
    assert subprocess.run(command, cwd=tmp_path, capture_output=True).returncode != 0


def test_a_restored_backup_is_told_from_tampering(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 2)
    made = making.make(context)
    beside = Path(made.place, f"{made.name}.seal").read_text("utf-8")
    assert owner.records.check_seal(beside).holds
    note_some(owner, machine, 2)
    later = seals.opened(owner.records.seal().note).sealed
    with context.db.read() as conn:
        older = list(records.digests(conn))[:-2]
    assert "a backup was restored" in seals.compared(later, older, "another life").why
    assert "restored" not in seals.compared(later, older, later.generation).why


# --- the audit ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "sql",
    [
        "DELETE FROM audit WHERE id = 2",
        "UPDATE audit SET who = 'somebody' WHERE id = 3",
        "UPDATE audit SET hashed = replace(hashed, 'note', 'nothing') WHERE id = 3",
        "UPDATE audit SET digest = NULL WHERE id = 2",
    ],
)
def test_the_audit_is_chained(
    service: Service, owner: Phylax, machine: Machine, context: Context, sql: str
) -> None:
    owner.people.make_token("a note")
    assert owner.people.verify_audit().intact
    with pytest.raises(sqlite3.IntegrityError, match="append-only"), context.db.write() as conn:
        conn.execute("DELETE FROM audit")
    altered(context, sql)
    assert not owner.people.verify_audit().intact


def test_an_audit_cut_off_at_its_end_is_found_by_a_seal(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    owner.people.make_token("a note")
    note = owner.records.seal().note
    assert owner.records.check_seal(note).holds
    altered(context, "DELETE FROM audit WHERE id = (SELECT max(id) FROM audit)")
    assert owner.people.verify_audit().intact
    assert "audit is not what it was" in owner.records.check_seal(note).why


def test_deeds_from_before_the_chain_are_covered_by_its_beginning(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite3"
    with closing(sqlite3.connect(path)) as conn:
        for number, script in migrations():
            if number < 15:
                conn.executescript(f"{script}; PRAGMA user_version = {number};")
        conn.execute("INSERT INTO audit (at, who, deed, subject) VALUES (1, 'Ines', 'x', 'é')")
        conn.commit()
    database = Database(path)
    try:
        with database.write() as conn:
            audit.record(conn, who="Ines", at=2, deed="y", subject="\N{SNOWMAN}")
            audit.record(conn, who="Ines", at=3, deed="z", subject="s", before=json.dumps({}))
            assert audit.verify(conn).intact and audit.verify(conn).entries == 3
            conn.execute("DROP TRIGGER audit_is_not_changed")
            conn.execute("UPDATE audit SET who = 'Wren' WHERE id = 1")
            assert audit.verify(conn).broken_at == 2
    finally:
        database.close()
