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
from phylax.core.clients.shop import Machine
from phylax.core.ground.chain import FIRST
from phylax.core.record import proofs, seals
from phylax.core.record.records import Entry, RecordKind, digest
from phylax.core.record.records import verify as verify_records
from phylax.service.backups import making
from phylax.service.context.context import Context
from phylax.service.record import seal_keys
from phylax.store.backups import copies
from phylax.store.file.database import Database, migrations
from phylax.store.record import audit, records


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
                     "audit_is_not_removed", "record_parts_are_not_removed",
                     "record_parts_are_not_changed", "audit_parts_are_not_changed",
                     "audit_parts_are_not_removed"):  # fmt: skip
            conn.execute(f"DROP TRIGGER IF EXISTS {name}")
        conn.execute(sql)


def test_a_seal_holds_while_entries_are_added(owner: Phylax, machine: Machine) -> None:
    note_some(owner, machine, 5)
    seal = owner.records.seal()
    note_some(owner, machine, 3)
    said = owner.records.check_seal(seal.note)
    assert (said.valid, said.count, said.since) == (True, seal.count, 3)
    assert owner.records.check_seal(owner.records.seal().note).since == 0
    assert [kept.note for kept in owner.records.seals()][-1] == seal.note


def test_a_seal_goes_on_from_the_one_before_and_says_what_was_altered_meanwhile(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 5)
    owner.records.seal()
    note_some(owner, machine, 3)
    later = seals.opened(owner.records.seal().note).sealed
    assert context.grown is not None and context.grown.entries == later.entries
    with context.db.read() as conn:
        assert later.root == seals.root_of(records.digests(conn))
    with context.db.read() as conn:
        newest = max(number for number, _ in records.digests_after(conn, 0))
    altered(context, f"UPDATE records SET digest = '{'1' * 64}' WHERE id = {newest}")
    with context.db.read() as conn:
        anew = seals.root_of(records.digests(conn))
    assert seals.opened(owner.records.seal().note).sealed.root == anew, "of what is there"
    altered(context, f"UPDATE records SET digest = '{'0' * 64}' WHERE id = 2")
    note_some(owner, machine, 1)
    assert not owner.records.check_seal(owner.records.seal().note).valid
    # what was sealed is not there any more: it is gone through anew
    altered(context, f"DELETE FROM records WHERE id > {later.entries - 2}")
    assert owner.records.check_seal(owner.records.seal().note).valid


def test_what_the_chain_alone_does_not_show_a_seal_does(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 5)
    seal = owner.records.seal()
    altered(context, f"DELETE FROM records WHERE id > {seal.count - 2}")
    assert owner.records.verify().intact, "the chain alone"
    said = owner.records.check_seal(seal.note)
    assert not said.valid and "2 of its entries are not there" in said.why
    altered(context, "DELETE FROM records")
    assert owner.records.verify().intact
    assert not owner.records.check_seal(seal.note).valid


def test_a_chain_computed_anew_is_found_out(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 4)
    seal = owner.records.seal()
    with context.db.read() as conn:
        entries = [Entry.model_validate(k.record.model_dump()) for k in records.chain(conn)]
    previous = FIRST
    altered(context, "DELETE FROM record_parts")
    for number, entry in enumerate(entries, 1):
        forged = entry.model_copy(update={"text": "Nothing was removed."})
        altered(context, f"UPDATE records SET text = 'Nothing was removed.', hashed = NULL, "
                         f"who = '{forged.who}', previous = '{previous}', "
                         f"digest = '{digest(forged, previous)}' WHERE id = {number}")  # fmt: skip
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
    (context.db.path.parent / seal_keys.KEY).rename(tmp_path / "key")
    assert "was lost or taken away" in owner.records.check_seal(note).why
    shutil.copy(tmp_path / "key", context.db.path.parent / seal_keys.KEY)
    assert owner.records.check_seal(note).valid
    for odd in ("no seal", note.replace("chain ", "chian "), note.partition("\n\n")[0],
                f"{first}\n{'9' * 40}\n{rest}"):  # fmt: skip
        with pytest.raises(RefusedError, match="no seal"):
            owner.records.check_seal(odd)
    assert [d.action for d in owner.people.audit()][:2] == ["seal key back", "seal key lost"]
    assert (tmp_path / "key").stat().st_mode & 0o077 == 0


def _keys_of(context: Context) -> Path:
    return context.db.path.parent / seal_keys.KEY


@pytest.fixture
def alone_with(
    owner: Phylax, machine: Machine, context: Context, monkeypatch: pytest.MonkeyPatch
) -> Path:
    """The data folder, as if no service ran: the tests' own opens the file without its lock."""
    return context.db.path.parent


def test_a_new_key_is_signed_by_the_one_before_and_older_seals_are_believed(
    owner: Phylax, machine: Machine, context: Context, alone_with: Path
) -> None:
    note_some(owner, machine, 2)
    first = owner.records.seal().note
    old = owner.records.seal_key()
    seal_keys.change(alone_with)
    second = owner.records.seal().note
    seal_keys.change(alone_with)
    now = owner.records.seal_key()
    assert now.older[-1] == old.public_key and len(now.older) == 2
    assert now.public_key not in now.older
    for note in (first, second, owner.records.seal().note):
        assert owner.records.check_seal(note).valid
    actions = [action for action in owner.people.audit() if action.action == "change seal key"]
    assert len(actions) == 2 and "handed over to" in actions[0].subject


def test_a_key_that_was_put_in_anothers_place_makes_nobody_believe_it(
    owner: Phylax, machine: Machine, context: Context, alone_with: Path
) -> None:
    """Lost, or exchanged by somebody: from then on it is said."""
    genuine = owner.records.seal().note
    _keys_of(context).unlink()
    assert "was lost or taken away" in owner.records.check_seal(genuine).why
    assert owner.records.check_seal(owner.records.seal().note).valid
    (action,) = [action for action in owner.people.audit() if action.action == "seal key lost"]
    assert "not believed any more" in action.subject and action.who == "the service"
    with context.db.write() as conn:
        conn.execute("UPDATE seal_keys SET handed_over = ? WHERE id = 2", (bytes(64),))
    assert "was lost or taken away" in owner.records.check_seal(genuine).why


@pytest.mark.parametrize("cut_off_after", [0, 1])
def test_a_change_of_the_key_that_is_cut_off_leaves_one_that_counts(
    owner: Phylax, machine: Machine, context: Context, alone_with: Path,
    monkeypatch: pytest.MonkeyPatch, cut_off_after: int,
) -> None:  # fmt: skip
    note = owner.records.seal().note
    with monkeypatch.context() as here:
        if cut_off_after:
            here.setattr(seal_keys.os, "replace", _cut_off)
        else:
            here.setattr(seal_keys.audit, "record", _cut_off)
        with pytest.raises(KeyboardInterrupt):
            seal_keys.change(alone_with)
    assert (alone_with / seal_keys.NEXT).exists()
    assert owner.records.check_seal(note).valid
    assert owner.records.check_seal(owner.records.seal().note).valid
    assert not (alone_with / seal_keys.NEXT).exists()
    assert not [d for d in owner.people.audit() if d.action == "seal key lost"]
    assert len(owner.records.seal_key().older) == cut_off_after


def _cut_off(*args: object, **more: object) -> None:
    raise KeyboardInterrupt


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
    assert owner.records.check_seal(beside).valid
    note_some(owner, machine, 2)
    later = seals.opened(owner.records.seal().note).sealed
    with context.db.read() as conn:
        older = list(records.digests(conn))[:-2]
    assert "a backup was restored" in seals.compared(later, older, "another life").why
    assert "restored" not in seals.compared(later, older, later.generation).why


@given(st.lists(st.binary(min_size=32, max_size=32), min_size=1, max_size=70), st.data())
def test_a_path_leads_to_the_root_of_the_standard_and_to_no_other(
    leaves: list[bytes], data: st.DataObject
) -> None:
    digests = [leaf.hex() for leaf in leaves]
    place = data.draw(st.integers(0, len(leaves) - 1))
    path = proofs.paths_to(digests, [place])[0]
    root = plain_root(leaves)
    assert proofs.root_by(digests[place], place, len(leaves), path) == root
    for other in {place - 1, place + 1, place ^ 1, -1}:
        if not (0 <= other < len(leaves) and leaves[other] == leaves[place]):
            assert proofs.root_by(digests[place], other, len(leaves), path) != root
    assert proofs.root_by("00" * 32, place, len(leaves), path) != root or leaves[place] == bytes(32)
    assert proofs.root_by(digests[place], place, len(leaves), [*path, bytes(32)]) is None
    if path:
        assert proofs.root_by(digests[place], place, len(leaves), path[:-1]) != root


def test_a_proof_shows_what_was_written_even_when_the_record_is_written_anew(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 3)
    entry = owner.records.add_note(machine.id, "Kept 12 files, as the client said.")
    note_some(owner, machine, 2)
    proof = owner.records.prove(entry.id).proof
    said = owner.records.check_proof(proof)
    assert said.valid and said.text == entry.text and said.who == entry.who
    assert (said.position, said.at) == (entry.id, entry.at)
    altered(context, f"DELETE FROM records WHERE id >= {entry.id}")
    assert owner.records.check_proof(proof).valid, "it needs nobody's word"
    with pytest.raises(RefusedError, match="no entry"):
        owner.records.prove(entry.id)


def test_a_proof_that_was_altered_proves_nothing(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    note_some(owner, machine, 4)
    proof = owner.records.prove(3).proof
    head, extra, index, first, rest = proof.split("\n", 4)
    shown = json.loads(base64.b64decode(extra[6:]))

    def again(**change: object) -> str:
        other = base64.b64encode(json.dumps(shown | change).encode()).decode()
        return "\n".join([head, f"extra {other}", index, first, rest])

    parts = shown["parts"]
    forged = {**parts, "text": {**parts["text"], "text": "Kept nothing."}}
    assert "its text is not" in owner.records.check_proof(again(parts=forged)).why
    assert owner.records.check_proof(again(parts={})).text == ""
    invented = {**parts, "freed": {"salt": "", "text": "9"}}
    assert "its freed is not" in owner.records.check_proof(again(parts=invented)).why
    entry = shown["entry"].replace('"kind":"note"', '"kind":"run"')
    assert entry != shown["entry"]
    assert "is not in the record" in owner.records.check_proof(again(entry=entry)).why
    moved = proof.replace(index, "index 1")
    assert "is not in the record" in owner.records.check_proof(moved).why
    text, _, signed = proof.partition("\n\n")[2].partition("\n\n")
    fewer = proof.replace(text, text.replace("\n5\n", "\n6\n"))
    assert fewer != proof and "altered" in owner.records.check_proof(fewer).why
    for odd in (
        "no proof", text, proof.partition("\n\n")[0], proof.replace(first, "e30="),
        proof.replace(index, "index -1"), proof.replace(extra, "extra e30="),
        proof.replace(extra, "extra " + base64.b64encode(b"[" * 50_000).decode()),
    ):  # fmt: skip
        with pytest.raises(RefusedError, match="no proof"):
            owner.records.check_proof(odd)
    assert signed


def test_entries_of_the_first_form_stay_as_they_are_and_are_proved_as_well(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    """A file that was written before there were parts: checked, gone on with, found by words."""
    with context.db.read() as conn:
        before = [Entry.model_validate(k.record.model_dump()) for k in records.chain(conn)]
    altered(context, "DELETE FROM record_parts")
    altered(context, "DELETE FROM records")
    previous = FIRST
    with closing(sqlite3.connect(context.db.path, timeout=20)) as conn, conn:
        entry = before[0].model_copy(update={"kind": RecordKind.NOTE, "text": "Old dusty fan."})
        said = digest(entry, previous)
        conn.execute(
            "INSERT INTO records (machine_id, at, who, kind, text, previous, digest)"
            " VALUES (?, ?, ?, ?, ?, ?, ?)",
            (machine.id, int(entry.at.timestamp()), entry.who, entry.kind, entry.text, previous,
             said),
        )  # fmt: skip
        conn.execute("INSERT INTO records_text (records_text) VALUES ('rebuild')")
    owner.records.add_note(machine.id, "A new fan.")
    assert owner.records.verify().intact and owner.records.verify().entries == 2
    assert {e.text for e in owner.records.list(words="fan")} == {"Old dusty fan.", "A new fan."}
    assert len(list(owner.records.list(who=entry.who))) == 2
    proved = owner.records.check_proof(owner.records.prove(1).proof)
    assert proved.valid and proved.text == "Old dusty fan."
    with context.db.write() as conn:
        assert verify_records(records.chain(conn)).intact
        conn.execute("INSERT INTO records_text (records_text) VALUES ('integrity-check')")


# --- the audit ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "sql",
    [
        "DELETE FROM audit WHERE id = 2",
        "UPDATE audit_parts SET who = 'somebody' WHERE audit_id = 3",
        "UPDATE audit_parts SET subject = 'something' WHERE audit_id = 3",
        "UPDATE audit_parts SET who = NULL WHERE audit_id = 3",
        "DELETE FROM audit_parts WHERE audit_id = 3",
        "UPDATE audit SET at = 5 WHERE id = 3",
        "UPDATE audit SET hashed = replace(hashed, 'deed', 'dead') WHERE id = 3",
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
    assert owner.records.check_seal(note).valid
    altered(context, "DELETE FROM audit WHERE id = (SELECT max(id) FROM audit)")
    assert owner.people.verify_audit().intact
    assert "audit is not what it was" in owner.records.check_seal(note).why


def _older_file(path: Path, until: int) -> sqlite3.Connection:
    """A file as an earlier version made it."""
    conn = sqlite3.connect(path)
    for number, script in migrations():
        if number < until:
            conn.executescript(f"{script}; PRAGMA user_version = {number};")
    return conn


def test_deeds_that_were_hashed_with_all_their_words_are_still_verified(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite3"
    with closing(_older_file(path, 18)) as conn, conn:
        conn.execute("INSERT INTO shop (id, name, zone, uid) VALUES (1, 'S', 'Europe/Dublin', 'u')")
        previous = FIRST
        for at, subject in ((1, "Wren Halloran"), (2, "\N{SNOWMAN}")):
            said = {"at": at, "who": "Ines", "deed": "x", "subject": subject, "before": None,
                    "after": "{}", "previous": previous}  # fmt: skip
            hashed = json.dumps(said, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
            previous = sha256(hashed.encode()).hexdigest()
            conn.execute(
                "INSERT INTO audit (at, who, deed, subject, after, hashed, digest)"
                " VALUES (?, 'Ines', 'x', ?, '{}', ?, ?)",
                (at, subject, hashed, previous),
            )
    assert copies.check(path).entries == 0, "a copy of an earlier version"
    database = Database(path)
    try:
        with database.write() as conn:
            audit.record(conn, who="Ines", at=3, action="y", subject="s", before="{}")
            assert audit.verify(conn).intact and audit.verify(conn).entries == 3
            newest, *_, oldest = audit.listed(conn, before=99, limit=9)
            assert (newest.subject, newest.before, newest.after) == ("s", "{}", None)
            assert (oldest.subject, oldest.after) == ("Wren Halloran", "{}")
            hashed = conn.execute("SELECT hashed FROM audit WHERE id = 3").fetchone()[0]
            assert "Ines" not in hashed
            conn.execute("DROP TRIGGER audit_is_not_changed")
            conn.execute("UPDATE audit SET subject = 'Petra' WHERE id = 1")
            assert audit.verify(conn).broken_at == 1
    finally:
        database.close()


def test_deeds_from_before_the_chain_are_covered_by_its_beginning(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite3"
    with closing(_older_file(path, 15)) as conn:
        conn.execute("INSERT INTO audit (at, who, deed, subject) VALUES (1, 'Ines', 'x', 'é')")
        conn.commit()
    database = Database(path)
    try:
        with database.write() as conn:
            audit.record(conn, who="Ines", at=2, action="y", subject="\N{SNOWMAN}")
            audit.record(conn, who="Ines", at=3, action="z", subject="s", before=json.dumps({}))
            assert audit.verify(conn).intact and audit.verify(conn).entries == 3
            conn.execute("DROP TRIGGER audit_is_not_changed")
            conn.execute("UPDATE audit SET who = 'Wren' WHERE id = 1")
            assert audit.verify(conn).broken_at == 2
    finally:
        database.close()
