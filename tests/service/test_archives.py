"""Everything taken out, and a shop built anew from it; the record verified without the service."""

from __future__ import annotations

import json
import re
import sqlite3
import zipfile
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path

import pytest

from conftest import Service
from phylax.client import NotAllowedError, Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit, ShopEdit
from phylax.core.desk.visits import NewVisit
from phylax.core.people.accounts import Role
from phylax.core.record.records import Entry, RecordKind
from phylax.service.context.context import Context
from phylax.service.record.archives import export_stream, loading, writing
from phylax.service.record.archives.loading import BadArchiveError
from phylax.store.clients import shop
from phylax.store.file.database import Database, migrations
from phylax.store.file.shop_file import FILE
from phylax.store.people import people
from phylax.store.record import records
from pictures import picture
from verifiers import run_verifier, verifier

NOW = datetime(2026, 3, 2, 9, 30, tzinfo=UTC)
Change = Callable[[dict[str, bytes]], None]


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The archive of a shop with a client, a machine and what happened to it."""
    folder = tmp_path_factory.mktemp("archive")
    database = Database(folder / FILE)
    with database.write() as conn:
        shop.open_shop(conn, ShopEdit(name="Quayside", zone="Europe/Dublin"))
        people.add(conn, "ines", "Ines Marrow", Role.OWNER, "argon2 of it", at=1)
        client = shop.add_client(conn, ClientEdit(name="Kelpie Boatyard"), who="Ines", at=1)
        edit = MachineEdit(tag="boatyard-cad", client_id=client, system="windows")
        machine = shop.add_machine(conn, edit, who="Ines", at=1)
        for text in ("Fan cleaned.", "Fan replaced."):
            records.append(
                conn, Entry(machine_id=machine, at=NOW, who="Ines", kind=RecordKind.NOTE, text=text)
            )
    with database.read() as conn:
        writing.write(conn, folder / "all.zip", writing.SHOP, at=NOW)
    database.close()
    return folder / "all.zip"


def test_over_a_shop_that_is_there_none_is_loaded(small: Path, tmp_path: Path) -> None:
    loading.load(tmp_path, small)
    was = (tmp_path / FILE).read_bytes()
    with pytest.raises(FileExistsError):
        loading.load(tmp_path, small)
    assert (tmp_path / FILE).read_bytes() == was


# --- archives that are not what they say ---------------------------------------------------------


def changed(source: Path, target: Path, change: Change, *, fits: bool = True) -> Path:
    """An archive with other files; `fits`: with digests that fit them."""
    with zipfile.ZipFile(source) as opened:
        files = {name: opened.read(name) for name in opened.namelist()}
    change(files)
    manifest = json.loads(files["archive.json"])
    if fits and isinstance(manifest.get("files"), dict):
        for name in manifest["files"]:
            if name in files:
                manifest["files"][name]["sha256"] = sha256(files[name]).hexdigest()
        files["archive.json"] = json.dumps(manifest).encode()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as written:
        for name, content in files.items():
            written.writestr(name, content)
    return target


def manifest(**said: object) -> Change:
    def change(files: dict[str, bytes]) -> None:
        files["archive.json"] = json.dumps(json.loads(files["archive.json"]) | said).encode()

    return change


def replaced(name: str, old: bytes, new: bytes) -> Change:
    def change(files: dict[str, bytes]) -> None:
        assert old in files[name]
        files[name] = files[name].replace(old, new, 1)

    return change


def extra(name: str, content: bytes) -> Change:
    def change(files: dict[str, bytes]) -> None:
        files[name] = content
        said = json.loads(files["archive.json"])
        said["files"][name] = {"sha256": sha256(content).hexdigest(), "lines": 1}
        files["archive.json"] = json.dumps(said).encode()

    return change


RECORDS, CLIENTS = "tables/records.jsonl", "tables/clients.jsonl"


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (manifest(of="client"), "not of a whole shop"),
        (manifest(form=2), "newer Phylax"),
        (manifest(schema=9999), "schema 9999"),
        (manifest(schema="28"), "schema"),
        (manifest(files=None), "says too little"),
        (manifest(phylax="backup"), "not one of Phylax"),
        (manifest(numbers={"events": -1}), "odd numbers"),
        (lambda files: files.pop(CLIENTS), "is missing"),
        (replaced(RECORDS, b'"kind":"note"', b'"kind":"call"'), "broken at entry"),
        (replaced(CLIENTS, b'"id":1,', b'"id":1,"nose":2,'), "which clients has not"),
        (replaced(CLIENTS, b'"id":1,', b'"id":"one",'), "line 1"),
        (replaced(CLIENTS, b'"id":1,', b'"id":[1],'), "no text, number or bytes"),
        (replaced(CLIENTS, b'"id":1,', b'"id":%d,' % 2**70), "line 1"),
        (replaced(CLIENTS, b'"id":1,', b'"id":91,'), "names one of clients that is gone"),
        (replaced(CLIENTS, b"{", b"[[{"), "is no JSON"),
        (extra(CLIENTS, b"[]\n"), "is no row"),
        (extra(CLIENTS, b"[" * 100_000), "is no JSON"),
        (extra("tables/sessions.jsonl", b"{}\n"), "no table"),
        (extra("tables/people; DROP TABLE people.jsonl", b"{}\n"), "no table"),
        (extra("tables/attachments.jsonl", b'{"id":1,"content":{"file":"../../etc/x"}}\n'),
         "not in the archive"),
        (extra("tables/letterhead.jsonl", b" " * 40_000_000), "unfolds"),
        (extra("tables/shop.jsonl", b""), "no shop"),
    ],
)  # fmt: skip
def test_what_is_not_right_is_refused_and_leaves_nothing(
    small: Path, tmp_path: Path, change: Change, said: str
) -> None:
    bad = changed(small, tmp_path / "bad.zip", change)
    data = tmp_path / "data"
    with pytest.raises(BadArchiveError, match=re.escape(said)):
        loading.load(data, bad)
    assert list(data.iterdir()) == []


def test_one_that_was_altered_or_cut_off_is_refused(small: Path, tmp_path: Path) -> None:
    change = replaced("lists/clients.csv", b"Kelpie", b"Kelp!!")
    altered = changed(small, tmp_path / "altered.zip", change, fits=False)
    with pytest.raises(BadArchiveError, match="altered or cut off"):
        loading.load(tmp_path / "data", altered)
    whole = (small).read_bytes()
    cut = tmp_path / "cut.zip"
    for length in (0, 10, len(whole) // 2, len(whole) - 30):
        cut.write_bytes(whole[:length])
        with pytest.raises(BadArchiveError):
            loading.load(tmp_path / "data", cut)
    torn = bytearray(whole)
    torn[len(whole) // 2] ^= 0xFF
    cut.write_bytes(torn)
    with pytest.raises(BadArchiveError):
        loading.load(tmp_path / "data", cut)
    assert list((tmp_path / "data").iterdir()) == []


def test_an_archive_of_an_earlier_version_is_brought_up_to_date(tmp_path: Path) -> None:
    """As a Phylax with schema 12 would have written it."""
    tables = {
        "shop": {"id": 1, "name": "Quayside", "zone": "Europe/Dublin", "threshold_percent": 90,
                 "is_demo": 0, "version": 1, "uid": "11" * 16},
        "clients": {"id": 7, "name": "Kelpie Boatyard", "contact": "", "mail": "", "phone": "",
                    "note": "", "version": 1, "changed_by": "Ines Marrow", "changed_at": 1},
    }  # fmt: skip
    files = {
        f"tables/{name}.jsonl": json.dumps(row).encode() + b"\n" for name, row in tables.items()
    }
    said = {"phylax": "archive", "form": 1, "of": "shop", "schema": 12, "written_at": "then"}
    digests = {name: {"sha256": sha256(content).hexdigest()} for name, content in files.items()}
    with zipfile.ZipFile(tmp_path / "old.zip", "w") as written:
        for name, content in files.items():
            written.writestr(name, content)
        written.writestr("archive.json", json.dumps(said | {"files": digests}))
    assert loading.load(tmp_path / "data", tmp_path / "old.zip").shop == "Quayside"
    with sqlite3.connect(tmp_path / "data" / FILE) as conn:
        assert conn.execute("PRAGMA user_version").fetchone()[0] == migrations()[-1][0]
        assert conn.execute("SELECT id, name, contact_by FROM clients").fetchall() == [
            (7, "Kelpie Boatyard", "")
        ]
    assert [path.name for path in (tmp_path / "data").iterdir()] == [FILE]


# --- by the service ------------------------------------------------------------------------------


@pytest.fixture
def two_clients(owner: Phylax, machine: Machine) -> Iterator[Phylax]:
    """The ferry office with all sorts of things, and somebody else."""
    visit = owner.visits.open(
        NewVisit(machine_id=machine.id, kind="at the bench", reported_problem="It is slow.")
    )
    owner.visits.seal_note(visit.id, "Sign-in", "gull-and-tern-77")
    attached = owner.records.upload("fan.png", picture("PNG"))
    owner.records.add_note(machine.id, "Fan cleaned.", attachments=[attached])
    owner.records.add_note(machine.id, "=HYPERLINK(1)")
    other = owner.clients.add(
        ClientEdit(name="Tidewrack Pottery", phone="555 0177", contact="Ottilie Vane")
    )
    made = owner.machines.add(MachineEdit(tag="pottery-mac", client_id=other.id, system="macos"))
    owner.records.add_note(made.id, "Kiln dust in the fan.")
    yield owner


def test_everything_about_one_client_and_nothing_of_others(
    two_clients: Phylax, service: Service, machine: Machine, tmp_path: Path
) -> None:
    file = tmp_path / "ferry.zip"
    assert two_clients.archives.client(machine.client_id, file) == file.stat().st_size
    with zipfile.ZipFile(file) as opened:
        files = {name: opened.read(name) for name in opened.namelist()}
    everything = b"\n".join(files.values())
    for word in (b"pottery", b"Tidewrack", b"555 0177", b"Ottilie", b"Kiln", b"gull-and-tern",
                 b"argon2", b"Tobias"):  # fmt: skip
        assert word not in everything, word
    assert b"Fan cleaned." in files["lists/record.csv"]
    assert b"'=HYPERLINK" in files["lists/record.csv"], "no formula for a spreadsheet"
    assert files["files/attachments/1.png"].startswith(b"\x89PNG")
    said = files["README.md"].decode()
    for name in files:
        assert name in said or name in ("archive.json", "README.md") or name.startswith(
            ("files/", "record/proofs/")
        ), name  # fmt: skip
    entries = [json.loads(line) for line in files["record/entries.jsonl"].splitlines()]
    assert len(entries) >= 4
    for entry in entries:
        proof = files[f"record/proofs/{entry['id']}.txt"].decode()
        held = two_clients.records.check_proof(proof)
        assert held.valid and held.text == entry["parts"]["text"]["text"]
    with pytest.raises(FileExistsError):
        two_clients.archives.client(machine.client_id, file)
    actions = [
        (action.action, action.subject, action.who) for action in two_clients.people.audit(most=5)
    ]
    assert ("take out", "Skerry Ferry Office", "Ines Marrow") in actions
    for login in ("wren", "petra"):
        with service.as_(login) as other, pytest.raises(NotAllowedError):
            other.archives.shop(tmp_path / f"{login}.zip")
    assert not (tmp_path / "wren.zip").exists()


def test_what_opens_something_stays_behind(
    two_clients: Phylax, context: Context, tmp_path: Path
) -> None:
    two_clients.archives.shop(tmp_path / "all.zip")
    with zipfile.ZipFile(tmp_path / "all.zip") as opened:
        everything = b"\n".join(opened.read(name) for name in opened.namelist())
    with context.db.read() as conn:
        secrets = [row[0] for row in conn.execute("SELECT password FROM people")]
        secrets += [row[0].hex() for row in conn.execute("SELECT hash FROM tokens")]
        secrets += [row[0] for row in conn.execute("SELECT sealed FROM sealed_notes")]
    assert len(secrets) == 5
    for secret in secrets:
        assert secret.encode() not in everything
    assert not list(context.db.path.parent.glob(".archive-*"))
    loading.load(tmp_path / "new", tmp_path / "all.zip")
    with sqlite3.connect(tmp_path / "new" / FILE) as conn:
        assert conn.execute("SELECT DISTINCT password FROM people").fetchall() == [("",)]
        ended = conn.execute("SELECT sealed, destroyed_at > 0 FROM sealed_notes").fetchall()
        assert ended == [("", 1)]


def test_one_archive_at_a_time_and_halves_are_cleared(
    two_clients: Phylax, context: Context, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    half = context.db.path.parent / ".archive-x"
    half.mkdir()
    (half / "archive.zip").write_bytes(b"killed")
    with context.making_archive, pytest.raises(RefusedError, match="being made"):
        two_clients.archives.shop(tmp_path / "one.zip")
    assert not list(tmp_path.glob("one.zip*"))

    def full(*args: object, **said: object) -> None:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as here:
        here.setattr(writing.zipfile.ZipFile, "open", full)
        with pytest.raises(RefusedError):
            two_clients.archives.shop(tmp_path / "one.zip")
    assert not list(context.db.path.parent.glob(".archive-*"))
    assert two_clients.archives.shop(tmp_path / "one.zip")
    assert export_stream._CLEAR in half.name and not half.exists()


# --- verified by others --------------------------------------------------------------------------


def test_the_verifier_of_the_docs_has_forty_lines() -> None:
    assert len(verifier("python").strip().splitlines()) <= 40


@pytest.mark.parametrize("language", ["python", "sh"])
def test_the_record_is_verified_without_the_service(
    two_clients: Phylax, machine: Machine, tmp_path: Path, language: str
) -> None:
    two_clients.records.add_note(machine.id, 'Ärger "previous":"0" \\ \u2028 \N{OCTOPUS}\r\n.')
    two_clients.archives.record(tmp_path / "record.zip")
    with zipfile.ZipFile(tmp_path / "record.zip") as opened:
        opened.extractall(tmp_path)
    folder = tmp_path / "record"
    good = run_verifier(folder, language)
    assert good.returncode == 0 and "sealed" in good.stdout, good.stderr
    names = [path.name for path in folder.iterdir() if path.suffix in (".txt", ".jsonl")]
    whole = {name: (folder / name).read_text("utf-8") for name in names}

    def broken(**files: str) -> None:
        for name, text in (whole | {k.replace("_", "."): v for k, v in files.items()}).items():
            (folder / name).write_text(text, "utf-8", newline="\n")
        assert run_verifier(folder, language).returncode != 0, files.keys()

    lines = {name: whole[name].splitlines(keepends=True) for name in
             ("entries.jsonl", "hashed.txt", "digests.txt")}  # fmt: skip
    # taken out, cut off, altered, under another seal
    for cut in (slice(1, None), slice(None, -1)):
        broken(entries_jsonl="".join(lines["entries.jsonl"][cut]),
               hashed_txt="".join(lines["hashed.txt"][cut]),
               digests_txt="".join(lines["digests.txt"][cut]))  # fmt: skip
    altered = whole["entries.jsonl"].replace('\\"kind\\":\\"note\\"', '\\"kind\\":\\"call\\"', 1)
    assert altered != whole["entries.jsonl"]
    broken(entries_jsonl=altered, hashed_txt=whole["hashed.txt"].replace('"note"', '"call"', 1))
    broken(seal_txt=whole["seal.txt"].replace("time 2", "time 1"))
    if language == "python":
        broken(entries_jsonl=whole["entries.jsonl"].replace("Fan cleaned", "Fan stolen"))
