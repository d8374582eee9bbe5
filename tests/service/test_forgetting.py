"""A client is forgotten: nothing of theirs is left anywhere, whatever comes in between."""

from __future__ import annotations

import logging
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from datetime import date, timedelta
from pathlib import Path

import httpx
import pytest

from conftest import Service
from forgotten_shop import (
    FORGET,
    GO_ON,
    NAME,
    NOTE,
    TAG,
    bytes_below,
    check_indexes,
    left_anywhere,
    left_in,
)
from helpers import Clock, wait_until
from phylax.agent.config.home import AgentHome, NotEnrolledError
from phylax.agent.runtime.loop import Agent
from phylax.client import NotAllowedError, Phylax, RefusedError
from phylax.core.clients.shop import Client, ClientEdit, Machine, MachineEdit
from phylax.core.erasing.forgetting.request import Forget
from phylax.core.ground.values import edit_of
from phylax.core.record.records import Entry, RecordKind, verify
from phylax.service.backups import making
from phylax.service.context.context import Context
from phylax.store.clients import forgettings
from phylax.store.erasing import chain, pages, rows, slices, sweep, whole
from phylax.store.file.database import Database
from phylax.store.record import audit, records
from verifiers import run_verifier


def test_nothing_of_a_forgotten_client_is_left(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, other: Machine, tmp_path: Path,
    caplog: pytest.LogCaptureFixture,
) -> None:  # fmt: skip
    client, agent = lived
    copy = context.db.path.with_name(f"{context.db.path.name}.schema-12")
    shutil.copy(context.db.path, copy)
    entries = owner.records.verify().entries
    seal = owner.records.seal()
    meaning = owner.clients.what_forgetting_means(client.id)
    assert meaning.machines == (TAG,) and meaning.retired and meaning.held == 2
    assert (meaning.elsewhere, meaning.reports, meaning.attachments, meaning.agents) == (1, 1, 1, 1)

    with caplog.at_level(logging.DEBUG, "phylax"):
        asked = owner.clients.forget(client, FORGET)
        GO_ON(context)
    (done,) = owner.clients.forgettings()
    assert done.state == "done" and done.id == asked.id and not done.why
    # and one that names them by a word that only the owner knows
    assert done.entries == meaning.entries + meaning.elsewhere + 1 >= 5

    assert left_anywhere(context) == []
    assert left_in(caplog.text.encode()) == [] and not copy.exists()
    with context.db.write() as conn:
        check_indexes(conn)
        assert conn.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        assert conn.execute("PRAGMA foreign_key_check").fetchone() is None
        said = audit.verify(conn)
        assert said.intact and said.erased >= 5, said
    checked = owner.records.verify()
    assert checked.intact and checked.erased == done.entries and checked.entries > entries
    assert owner.records.check_seal(seal.note).valid, "what was sealed before still holds"

    gone = owner.clients.get(client.id)
    assert gone.name == f"Forgotten client {client.id}" and gone.forgotten_at
    assert (gone.contact, gone.mail, gone.phone, gone.note, gone.retired_why) == ("",) * 5
    assert client.id not in [each.id for each in owner.clients.list(retired=True)]
    # what happened is known by time, kind and figures; of others' entries the rest is kept
    erased = [entry for entry in owner.records.list(client_id=client.id) if entry.erased]
    assert {"run", "visit", "note", "machine"} <= {entry.kind for entry in erased}
    assert any(entry.freed is not None for entry in erased)
    (by_nickname, said_elsewhere, *_) = owner.records.list(machine="pottery-mac")
    assert by_nickname.text.endswith(f"forgotten client {client.id} came by for it.")
    assert said_elsewhere.kind is RecordKind.ERASURE and "14 EUR" in said_elsewhere.text
    assert f"forgotten client {client.id}" in said_elsewhere.text
    called = [round_.name for round_ in owner.rounds.list()]
    assert called == [f"Round {number} of forgotten client {client.id}" for number in (1, 2)]
    for path in ("shop", "record"):
        file = tmp_path / f"{path}.zip"
        getattr(owner.archives, path)(file)
        shutil.unpack_archive(file, tmp_path / path)
    assert left_in(bytes_below(tmp_path / "shop") + bytes_below(tmp_path / "record")) == []
    for language in ("python", "sh"):
        verified = run_verifier(tmp_path / "record/record", language)
        assert verified.returncode == 0, verified.stdout + verified.stderr
    # its rows beside remain whole
    assert owner.clients.get(other.client_id).contact == "Ottilie Vane"
    with pytest.raises(RefusedError, match="nothing left"):
        owner.clients.bring_back(gone)
    machine = owner.machines.get(f"forgotten-{other.id + 1}")
    for write in (
        lambda: owner.records.add_note(machine.id, f"{NAME} again"),
        lambda: owner.clients.change(gone, edit_of(ClientEdit, gone, name=NAME)),
        lambda: owner.machines.change(machine, edit_of(MachineEdit, machine, tag=TAG)),
    ):
        with pytest.raises(RefusedError, match="is forgotten"):
            write()

    # the agent is told when it calls, and lets go of everything
    folder = tmp_path / "client" / "agent"
    assert left_in(bytes_below(folder)) and left_in(bytes_below(tmp_path / "client" / "machine"))
    assert agent.once() is False
    assert [path.name for path in folder.iterdir()] == ["guard.toml", "agent.lock"] or {
        path.name for path in folder.iterdir()
    } == {"guard.toml", "agent.lock"}
    assert left_in(bytes_below(folder)) == []
    assert left_in(bytes_below(tmp_path / "client" / "machine")) == []
    with pytest.raises(NotEnrolledError):
        AgentHome(folder).config()


def test_only_the_owner_and_only_who_is_retired(
    by_hand: None, owner: Phylax, service: Service, other: Machine
) -> None:
    client = owner.clients.get(other.client_id)
    with pytest.raises(RefusedError, match="retire the client first"):
        owner.clients.forget(client, Forget())
    assert "Retire Tidewrack Pottery first" in " ".join(
        owner.clients.what_forgetting_means(client.id).in_words
    )
    client = owner.clients.retire(client)
    for login in ("wren", "petra"):
        with service.as_(login) as person, pytest.raises(NotAllowedError):
            person.clients.forget(client, Forget())
    owner.clients.forget(client, Forget())
    with pytest.raises(RefusedError, match="already"):
        owner.clients.forget(client, Forget())
    with pytest.raises(RefusedError, match="to be forgotten"):
        owner.clients.bring_back(owner.clients.get(client.id))


def test_one_that_is_postponed_begins_by_itself_on_its_day(
    by_hand: None, owner: Phylax, service: Service, context: Context, other: Machine, clock: Clock
) -> None:
    client = owner.clients.retire(owner.clients.get(other.client_id))
    day = clock.now.date() + timedelta(days=30)
    with pytest.raises(ValueError, match="say why"):
        Forget(postponed_until=day)
    with pytest.raises(RefusedError, match="a day to come"):
        owner.clients.forget(client, Forget(why="A claim", postponed_until=date(2020, 1, 1)))
    asked = owner.clients.forget(client, Forget(why="A claim is open", postponed_until=day))
    assert asked.state == "postponed" and asked.why
    # until then only the owner sees what there is of them
    with service.as_("wren") as technician:
        assert not technician.search("pottery").groups
        assert not list(technician.records.list(words="pottery-mac"))
        assert not list(technician.clients.list(retired=True))
        with pytest.raises(NotAllowedError, match="only the owner"):
            technician.clients.get(client.id)
    assert owner.search("pottery").groups and list(owner.clients.list(retired=True))
    clock.pass_(timedelta(days=29))
    GO_ON(context)
    assert owner.clients.get(client.id).name == "Tidewrack Pottery"
    owner.clients.call_forgetting_off(client.id)
    assert owner.clients.forgettings() == []
    owner.clients.forget(client, Forget(why="A claim", postponed_until=day))
    clock.pass_(timedelta(days=2))
    GO_ON(context)
    assert owner.clients.forgettings()[0].state == "done"
    with pytest.raises(RefusedError, match="waits"):
        owner.clients.call_forgetting_off(client.id)


def test_the_service_does_it_by_itself(owner: Phylax, other: Machine) -> None:
    client = owner.clients.retire(owner.clients.get(other.client_id))
    owner.clients.forget(client, Forget())
    wait_until(lambda: owner.clients.forgettings()[0].state == "done", "forgotten")
    assert owner.clients.get(client.id).name == f"Forgotten client {client.id}"


# --- kept from it ---------------------------------------------------------------------------------


class KilledError(BaseException):
    """As a kill is: nobody catches it."""


STEPS: list[tuple[object, str]] = [
    (chain, "erase_machine"), (chain, "erase_naming"), (chain, "erase_deeds"),
    (rows, "_unlist_files"), (rows, "remove"), (rows, "_remove_orphans"), (rows, "blank"),
    (whole, "sweep"), (sweep, "_sweep"), (forgettings, "wipe"), (pages, "merge_indexes"),
    (pages, "fold_log"), (forgettings, "end"),
]  # fmt: skip


@pytest.mark.parametrize("half", [False, True], ids=["before", "amid"])
def test_cut_off_anywhere_it_goes_on_from_there(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, half: bool,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """Each step is begun, and cut off before it did anything or after its first slice."""
    client, _ = lived
    owner.clients.forget(client, FORGET)
    monkeypatch.setattr(slices, "_FIRST", 1)
    monkeypatch.setattr(slices, "_MOST", 1)
    for place, name in STEPS:
        cut_off_in(context, place, name, half)
        with context.db.read() as conn:
            assert verify(records.chain(conn)).intact, name
            assert audit.verify(conn).intact, name
    GO_ON(context)
    assert owner.clients.forgettings()[0].state == "done"
    assert left_anywhere(context) == []
    with context.db.write() as conn:
        check_indexes(conn)
        assert conn.execute("PRAGMA foreign_key_check").fetchone() is None


def cut_off_in(context: Context, place: object, name: str, half: bool) -> None:
    with pytest.MonkeyPatch.context() as here:
        act: Callable[..., object] = getattr(place, name)
        write = Database.write
        writes = 0

        def killed(*args: object, **more: object) -> object:
            if not half:
                raise KilledError
            here.setattr(Database, "write", killed_write)
            return act(*args, **more)

        def killed_write(self: Database, **more: bool) -> object:
            nonlocal writes
            writes += 1
            if writes > 1:
                raise KilledError
            return write(self, **more)

        here.setattr(place, name, killed)
        with suppress(KilledError):
            GO_ON(context)


def test_a_reader_keeps_it_waiting_and_that_is_said(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    client, _ = lived
    owner.clients.forget(client, FORGET)
    monkeypatch.setattr(whole, "_WAITS_FOR_READERS", 0.2)
    monkeypatch.setattr(whole.carry_out, "__kwdefaults__", {"also": (), "seconds": 0.2})
    with context.db.read() as conn:
        conn.execute("SELECT count(*) FROM records").fetchone()
        GO_ON(context)
        (waiting,) = owner.clients.forgettings()
        assert waiting.state == "under way" and "reads the file" in waiting.waits_for
        assert left_anywhere(context), "else there was nothing to wait for"
    GO_ON(context)
    (done,) = owner.clients.forgettings()
    assert done.state == "done" and not done.waits_for
    assert left_anywhere(context) == []


def test_a_full_disk_is_said_and_it_goes_on_later(
    lived: tuple[Client, Agent], owner: Phylax, context: Context
) -> None:
    client, _ = lived
    owner.clients.forget(client, FORGET)
    with context.db.write() as conn:
        size = conn.execute("PRAGMA page_count").fetchone()[0]
        was = conn.execute("PRAGMA max_page_count").fetchone()[0]
        conn.execute(f"PRAGMA max_page_count = {size}")
        # until there is no page left for anybody
        with pytest.raises(sqlite3.OperationalError, match="full"):
            conn.execute("SAVEPOINT filling")
            conn.execute("CREATE TABLE filling (content BLOB)")
            while True:
                conn.execute("INSERT INTO filling VALUES (randomblob(3000))")
        if conn.in_transaction:
            conn.execute("ROLLBACK TO filling")
        else:
            conn.execute("BEGIN")
    try:
        GO_ON(context)
    finally:
        with context.db.write() as conn:
            conn.execute(f"PRAGMA max_page_count = {was}")
    with context.db.read() as conn:
        assert verify(records.chain(conn)).intact and audit.verify(conn).intact
    GO_ON(context)
    assert owner.clients.forgettings()[0].state == "done"
    assert left_anywhere(context) == []


def test_what_is_written_meanwhile_goes_too(
    lived: tuple[Client, Agent], owner: Phylax, context: Context, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By something that had begun before it was asked for."""
    client, _ = lived
    owner.clients.forget(client, FORGET)
    remove = rows.remove

    def removed(database: Database, client_id: int) -> None:
        with database.write() as conn:
            machine = conn.execute("SELECT id FROM machines WHERE tag = ?", (TAG,)).fetchone()[0]
            entry = Entry(machine_id=machine, at=context.clock(), who="Ines Marrow",
                          kind=RecordKind.NOTE, text=f"{NOTE} and Zwiebelfisch")  # fmt: skip
            records.append(conn, entry)
        remove(database, client_id)

    monkeypatch.setattr(rows, "remove", removed)
    GO_ON(context)
    assert left_anywhere(context) == [] and b"wiebelfisch" not in bytes_below(
        context.db.path.parent, making.BESIDE, "client"
    )
    assert owner.records.verify().intact


def test_an_agent_forgets_at_the_shops_own_word_alone(
    lived: tuple[Client, Agent], tmp_path: Path
) -> None:
    """A proxy that says *gone* of something it does not know is not believed."""
    _, agent = lived
    folder = tmp_path / "client" / "agent"
    before = {path.name for path in folder.iterdir()}

    def gone(request: httpx.Request) -> httpx.Response:
        return httpx.Response(410, json={"type": "about:blank", "detail": "forgotten"})

    agent._link._client = httpx.Client(
        base_url="http://127.0.0.1:1", transport=httpx.MockTransport(gone)
    )
    with pytest.raises(RefusedError):
        agent.once()
    assert before <= {path.name for path in folder.iterdir()}
    assert left_in(bytes_below(tmp_path / "client" / "machine"))
