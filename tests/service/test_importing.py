"""A list is taken in as its preview said, once."""

from __future__ import annotations

import base64

import pytest

from bad_lists import bad_list
from conftest import Service
from phylax.client import Phylax, RefusedError
from phylax.core.clients.importing.request import ImportRequest, LineStatus
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.values import edit_of
from phylax.service.context.context import Context
from phylax.store.clients import importing


def asking(text: str | bytes, **said: object) -> ImportRequest:
    content = text.encode() if isinstance(text, str) else text
    return ImportRequest.model_validate({"content": base64.b64encode(content), **said})


def test_three_hundred_machines_of_forty_clients(
    owner: Phylax, service: Service, context: Context
) -> None:
    made = bad_list()
    asked = asking(made.text.encode("windows-1252"))
    with service.as_("petra") as desk:
        unsure = desk.imports.preview(asked)
        assert not unsure.preview and unsure.doubtful
        asked = asked.model_copy(update={"encoding": unsure.encoding})
        preview = desk.imports.preview(asked)
        assert {line.line: line.status for line in preview.lines} == made.counts
        assert list(desk.machines.list()) == [], "a preview writes nothing"
        done = desk.imports.take_in(asked, preview)
    assert done.added == sum(status is LineStatus.ADDED for status in made.counts.values())
    assert done.new_clients == len(list(owner.clients.list())) == made.clients
    machines = {machine.tag: machine for machine in owner.machines.list()}
    assert made.tags <= machines.keys() and len(machines) == done.added
    assert machines["pc-6"].note == 'links; das "alte"\nzweite Zeile'
    assert machines["pc-5"].serial == ""
    first = next(owner.records.list(machine="pc-6"))
    assert first.text.startswith("Taken in from list, line") and first.who == "Petra Lund"
    assert owner.records.verify().intact

    def kept() -> list[tuple[object, ...]]:
        with context.db.read() as conn:
            question = "SELECT id, version, tag FROM machines UNION ALL SELECT id, version, name"
            return [tuple(row) for row in conn.execute(f"{question} FROM clients")]

    before = kept()
    again = owner.imports.preview(asked)
    for status in (LineStatus.ADDED, LineStatus.COMPLETED, LineStatus.CHANGED):
        assert again.count_by_status[status] == 0
    done = owner.imports.take_in(asked, again)
    assert (done.added, done.completed, done.changed, done.new_clients) == (0, 0, 0, 0)
    assert kept() == before


@pytest.mark.parametrize("meanwhile", ["machine", "another field", "client", "tag"])
def test_what_was_changed_since_the_preview_is_not_overwritten(
    owner: Phylax, machine: Machine, meanwhile: str
) -> None:
    text = (
        "client,tag,os,note\nSkerry Ferry Office,ferry-desk,windows,by the window\n"
        "Skerry Ferry Office,ferry-board,linux,\n"
    )
    asked = asking(text, overwrite=True)
    preview = owner.imports.preview(asked)
    client = owner.clients.get(machine.client_id)
    if meanwhile == "machine":
        owner.machines.change(machine, edit_of(MachineEdit, machine, note="under the desk"))
    elif meanwhile == "another field":
        # of which the list says nothing
        owner.machines.change(machine, edit_of(MachineEdit, machine, location="the cellar"))
    elif meanwhile == "client":
        owner.clients.change(client, edit_of(ClientEdit, client, phone="555 0100"))
    else:
        owner.machines.add(MachineEdit(tag="ferry-board", client_id=client.id, system="linux"))
    with pytest.raises(RefusedError, match="changed in the shop"):
        owner.imports.take_in(asked, preview)
    assert owner.machines.get("ferry-desk").system == "linux"
    done = owner.imports.take_in(asked, owner.imports.preview(asked))
    assert done.changed == 1


def test_another_list_under_a_previews_name_is_refused(owner: Phylax) -> None:
    preview = owner.imports.preview(asking("client,tag,os\nMill,mill-1,linux\n"))
    with pytest.raises(RefusedError):
        owner.imports.take_in(asking("client,tag,os\nMill,mill-2,linux\n"), preview)
    with pytest.raises(RefusedError, match="which column"):
        owner.imports.take_in(asking("a,b\n1,2\n"), preview)
    with pytest.raises(RefusedError, match="nothing in the list"):
        owner.imports.preview(asking(""))
    assert list(owner.clients.list()) == []


def test_by_its_own_number_a_machine_is_known_under_another_tag(
    owner: Phylax, context: Context
) -> None:
    heading = "client no,client,no,tag,os\n"
    first = asking(f"{heading}K1,Old Mill,7,mill-1,linux\n")
    owner.imports.take_in(first, owner.imports.preview(first))
    renamed = asking(f"{heading}K1,New Mill,7,mill-2,linux\n", overwrite=True)
    owner.imports.take_in(renamed, owner.imports.preview(renamed))
    assert [(m.tag, m.client_name) for m in owner.machines.list()] == [("mill-2", "New Mill")]
    # of another list, the same numbers are others'
    other = asking(f"{heading}K1,Choir,7,choir-1,linux\n", source="other list")
    assert owner.imports.take_in(other, owner.imports.preview(other)).added == 1
    with context.db.read() as conn:
        assert len(importing.known(conn, "list").machine_numbers) == 1


def test_what_the_shop_takes_out_can_be_taken_in(
    owner: Phylax, machine: Machine, tmp_path: object
) -> None:
    text = "client,tag,system,serial,note\nSkerry Ferry Office,ferry-desk,linux,,'=1+1\n"
    done = asking(text)
    owner.imports.take_in(done, owner.imports.preview(done))
    assert owner.machines.get("ferry-desk").note == "=1+1"
