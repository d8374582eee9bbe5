"""Clients and machines in full: what people say, what agents read, and labels."""

from __future__ import annotations

import io
import sqlite3
from contextlib import closing
from datetime import timedelta
from pathlib import Path

import pytest
import segno

from helpers import Clock
from phylax.client import ChangedMeanwhileError, Phylax, RefusedError, enrol
from phylax.core.clients.facts import FactName, is_placeholder
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.values import edit_of
from phylax.core.inventory.hardware import HardwareListed
from phylax.core.protocol import InventoryMessage
from phylax.service.context.context import Context
from phylax.service.runs import ingest
from phylax.store.file.database import Database, migrations
from phylax.store.runs import runs

READ = MachineFacts(
    system="linux", host="desk", agent_version="1", kind="standin", memory=8 * 2**30,
    make="Corrin", model="Slate 14",
)  # fmt: skip


def enrolled(owner: Phylax, machine: Machine, facts: MachineFacts = READ) -> Machine:
    enrol(owner.url, owner.machines.enrolment_code(machine.id).code, facts)
    return owner.machines.get(machine.id)


def look(context: Context, machine: Machine, **read: object) -> None:
    """The agent tells what its hardware says."""
    hardware = HardwareListed.model_validate({"taken_at": context.clock(), **read})
    with context.db.write() as conn:
        run_id = runs.add(conn, runs.Waiting(machine.id, "check", (), "Ines"), at=0)
        assert run_id is not None
        message = InventoryMessage(id=f"hardware-{run_id}", run_id=run_id, inventory=hardware)
        ingest.apply(conn, machine.id, message, at=context.now())


def facts_of(owner: Phylax, machine: Machine) -> dict[str, tuple[str, str, bool]]:
    return {
        str(fact.name): (
            fact.stated.value if fact.stated else "", fact.detected.value if fact.detected else "",
            fact.differs,
        )
        for fact in owner.machines.facts(machine.id)
    }  # fmt: skip


def test_what_the_agent_reads_fills_in_what_nobody_said(
    owner: Phylax, machine: Machine, context: Context
) -> None:
    now = enrolled(owner, machine)
    assert (now.make, now.model, now.memory) == ("Corrin", "Slate 14", 8 * 2**30)
    look(context, machine, make="Corrin", model="Slate 14", serial="CO 77  12", processor="Q4",
         system_version="Debian 12")  # fmt: skip
    now = owner.machines.get(machine.id)
    assert (now.serial, now.processor, now.system_version) == ("CO 77 12", "Q4", "Debian 12")
    assert facts_of(owner, machine)["serial"] == ("", "CO 77 12", False)
    (serial,) = [f for f in owner.machines.facts(machine.id) if f.name is FactName.SERIAL]
    assert serial.detected and serial.detected.source == "read from its hardware"
    assert serial.detected.at == context.clock()


def test_people_correct_it_and_both_are_kept(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    now = enrolled(owner, machine)
    clock.pass_(timedelta(days=1))
    owner.machines.change(now, edit_of(MachineEdit, now, model="Slate 14 (new board)", year=2022))
    assert facts_of(owner, machine)["model"] == ("Slate 14 (new board)", "Slate 14", True)
    assert facts_of(owner, machine)["make"] == ("", "Corrin", False), "nobody said that"
    clock.pass_(timedelta(days=1))
    look(context, machine, make="Corrin", model="Slate 15", memory=16 * 2**30)
    now = owner.machines.get(machine.id)
    assert (now.model, now.memory) == ("Slate 14 (new board)", 16 * 2**30)
    assert facts_of(owner, machine)["model"] == ("Slate 14 (new board)", "Slate 15", True)
    # what is taken away is again as it was read
    now = owner.machines.change(now, edit_of(MachineEdit, now, model=""))
    assert now.model == "Slate 15" and now.year == 2022
    assert facts_of(owner, machine)["model"] == ("", "Slate 15", False)


def test_what_people_said_first_stays(owner: Phylax, machine: Machine) -> None:
    owner.machines.change(machine, edit_of(MachineEdit, machine, make="Vanto", memory=4 * 2**30))
    now = enrolled(owner, machine)
    assert (now.make, now.model, now.memory) == ("Vanto", "Slate 14", 4 * 2**30)
    (make,) = [f for f in owner.machines.facts(machine.id) if f.name is FactName.MAKE]
    assert make.stated and make.stated.source == "Ines Marrow" and make.differs


@pytest.mark.parametrize(
    "text",
    ["To Be Filled By O.E.M.", "default string", " None ", "0000000", "0x00000000", "-", "...",
     "System  Serial Number"],
)  # fmt: skip
def test_what_makers_leave_where_nothing_stands_is_no_fact(
    owner: Phylax, machine: Machine, context: Context, text: str
) -> None:
    assert is_placeholder(text)
    look(context, machine, serial=text, make=text)
    assert owner.machines.get(machine.id).serial == ""
    assert "serial" not in facts_of(owner, machine)


def test_serial_numbers_are_no_placeholders() -> None:
    assert not any(map(is_placeholder, ["CO1234567", "0A1", "5", "x1", "Pelham"]))


def test_a_client_in_full_is_changed_by_version(owner: Phylax) -> None:
    edit = ClientEdit(
        name="Skerry Ferry Office", contact="Maren Oyle", phone="555 0110", contact_by="phone",
        hours="10 to 12", agreements="Weekly, quarterly report.",
    )  # fmt: skip
    client = owner.clients.add(edit)
    assert (client.contact_by, client.hours, client.agreements) == (
        "phone", "10 to 12", "Weekly, quarterly report.",
    )  # fmt: skip
    changed = owner.clients.change(client, edit_of(ClientEdit, client, contact_by="mail"))
    assert changed.contact_by == "mail" and changed.hours == "10 to 12"
    with pytest.raises(ChangedMeanwhileError):
        owner.clients.change(client, edit_of(ClientEdit, client, hours="never"))


def test_labels_open_their_machines(owner: Phylax, machine: Machine) -> None:
    other = owner.machines.add(
        MachineEdit(tag="ferry-board", client_id=machine.client_id, system="linux", make="Pelham")
    )
    console = "https://phylax.quayside.example:8443"
    board, desk = owner.machines.labels([other.id, machine.id, 999], console)
    assert (board.tag, desk.tag, board.make_and_model) == ("ferry-board", "ferry-desk", "Pelham")
    assert desk.address == f"{console}/machines/ferry-desk"
    drawn = io.BytesIO()
    segno.make(desk.address, error="m", micro=False).save(
        drawn, kind="svg", border=2, xmldecl=False
    )
    assert desk.picture == drawn.getvalue().decode()
    for odd in ("javascript:alert(1)", "https://x.example/other", 'https://x"onload=', "ftp://x"):
        with pytest.raises(RefusedError):
            owner.machines.labels([machine.id], odd)
    with pytest.raises(RefusedError):
        owner.machines.labels(list(range(301)), console)


def test_what_an_earlier_version_knew_stands_as_said(tmp_path: Path) -> None:
    path = tmp_path / "old.sqlite3"
    with closing(sqlite3.connect(path)) as conn, conn:
        for number, script in migrations():
            if number < 22:
                conn.executescript(f"{script}; PRAGMA user_version = {number};")
        conn.execute(
            "INSERT INTO clients (name, contact, mail, phone, note, changed_by, changed_at)"
            " VALUES ('C', '', '', '', '', 'Petra', 5)"
        )
        conn.execute(
            "INSERT INTO machines (tag, client_id, system, make, model, serial, note, memory,"
            " changed_by, changed_at)"
            " VALUES ('desk', 1, 'linux', 'Vanto', '', '', '', 1024, 'Petra', 5)"
        )
    database = Database(path)
    try:
        with database.write() as conn:
            rows = conn.execute("SELECT name, value, source, by_person FROM machine_facts")
            assert sorted(map(tuple, rows)) == [
                ("make", "Vanto", "Petra", 1), ("memory", "1024", "Petra", 1),
            ]  # fmt: skip
    finally:
        database.close()
