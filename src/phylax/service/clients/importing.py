"""A list is taken in: as its preview said, all of it or nothing."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.clients.importing.planning import KnownRow, Plan, edit_of_client, edit_of_machine
from phylax.core.clients.importing.request import (
    ImportCommit,
    ImportDone,
    ImportRequest,
    LineStatus,
)
from phylax.core.clients.importing.taking_in import Prepared, prepare
from phylax.core.clients.shop import Client, ClientEdit, Machine, MachineEdit
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import edit_of, from_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.service.http.changes import Change
from phylax.service.problems import Problem, invalid
from phylax.service.scheduling.timetable import place_all
from phylax.store.clients import importing, shop
from phylax.store.record import records


def preview(conn: Connection, asked: ImportRequest) -> Prepared:
    """A problem where the list cannot be read."""
    try:
        return prepare(asked, lambda: importing.known(conn, asked.source))
    except ValueError as error:
        raise invalid("/content", f"{error}.") from None


def take_in(
    conn: Connection, asked: ImportCommit, prepared: Prepared, before: str, change: Change
) -> ImportDone:
    """A problem where the shop or the list is not as it was when it was previewed. `prepared` was
    made of the shop as it was `before`: nobody waits while a long list is read."""
    if importing.state(conn) != before:
        # rare: somebody changed something within this moment
        prepared = preview(conn, asked)
    if prepared.preview.needed:
        raise invalid("/content", prepared.preview.needed)
    if prepared.preview.preview != asked.preview:
        raise Problem(
            409, "changed-since",
            "Since the preview something of it was changed in the shop, or the list is another. "
            "Nothing was written: look at a new preview.",
        )  # fmt: skip
    _write(conn, prepared.plan, asked.source, change)
    counts = prepared.preview.count_by_status
    done = ImportDone(
        added=counts[LineStatus.ADDED],
        completed=counts[LineStatus.COMPLETED],
        changed=counts[LineStatus.CHANGED],
        new_clients=prepared.preview.new_clients,
    )
    change.audit(conn, "take in list", asked.source, after=done)
    change.tell(conn, EventKind.CLIENT)
    if prepared.plan.machines:
        place_all(conn, at=change.now)
    return done


def _write(conn: Connection, plan: Plan, source: str, change: Change) -> None:
    for kept in plan.clients:
        kept.id = _client(conn, kept, change)
        if kept.number:
            importing.note_number(conn, source, "client", kept.number, kept.id)
    for kept in plan.machines:
        assert kept.client is not None and kept.client.id is not None
        kept.id = _machine(conn, kept, kept.client.id, source, change)
        if kept.number:
            importing.note_number(conn, source, "machine", kept.number, kept.id)


def _client(conn: Connection, kept: KnownRow, change: Change) -> int:
    if kept.id is None:
        number = shop.add_client(conn, edit_of_client(kept), who=change.who, at=change.now)
        change.audit(conn, "add client", kept.name, after=_client_now(conn, number))
        return number
    if kept.changes:
        before = _client_now(conn, kept.id)
        edit = edit_of_client(kept, edit_of(ClientEdit, before))
        shop.change_client(conn, kept.id, edit, who=change.who, at=change.now)
        change.audit(conn, "change client", kept.name, before, _client_now(conn, kept.id))
    return kept.id


def _machine(conn: Connection, kept: KnownRow, client_id: int, source: str, change: Change) -> int:
    if kept.id is None:
        edit = edit_of_machine(kept, client_id)
        number = shop.add_machine(conn, edit, who=change.who, at=change.now)
        what = " ".join(f"{edit.make} {edit.model}".split())
        text = f"Taken in from {source}, line {kept.line}: {what}".removesuffix(": ")
        records.append(
            conn,
            Entry(machine_id=number, at=from_seconds(change.now), who=change.who,
                  kind=RecordKind.MACHINE, text=f"{text}."),
        )  # fmt: skip
        change.audit(conn, "take in machine", kept.tag, after=_machine_now(conn, number))
    elif kept.changes:
        number = kept.id
        before = _machine_now(conn, number)
        edit = edit_of_machine(kept, client_id, edit_of(MachineEdit, before))
        shop.change_machine(conn, number, edit, who=change.who, at=change.now)
        change.audit(conn, "change machine", kept.tag, before, _machine_now(conn, number))
    else:
        return kept.id
    change.tell(conn, EventKind.MACHINE, number)
    return number


def _client_now(conn: Connection, number: int) -> Client:
    client = shop.client(conn, number)
    assert client is not None
    return client


def _machine_now(conn: Connection, number: int) -> Machine:
    machine = shop.machine(conn, number)
    assert machine is not None
    return machine
