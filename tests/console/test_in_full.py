"""Clients and machines in the browser: written down, corrected, labelled, retired."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from phylax.client import Phylax, enrol
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.values import edit_of


@pytest.fixture
def desk(owner: Phylax, machine: Machine) -> Machine:
    """A machine whose agent read what it is."""
    facts = MachineFacts(
        system="linux", host="desk", agent_version="1", kind="standin", memory=8 * 2**30,
        make="Corrin", model="Slate 14",
    )  # fmt: skip
    enrol(owner.url, owner.machines.enrolment_code(machine.id).code, facts)
    return owner.machines.get(machine.id)


def test_a_client_is_written_down_and_two_at_once_see_each_other(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.goto("/clients")
    page.get_by_label("A new client").fill("Kelpie Boatyard")
    page.get_by_role("button", name="Add").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Kelpie Boatyard")
    page.get_by_role("textbox", name="Phone").fill("555 0154")
    page.get_by_label("Best reached by").select_option("in person")
    page.get_by_label("What was agreed").fill("Weekly.")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status")).to_have_text("Saved.")
    client = owner.clients.find("Kelpie Boatyard")
    assert (client.phone, client.contact_by, client.agreements) == (
        "555 0154",
        "in person",
        "Weekly.",
    )
    # what somebody else saves in another field while this is typed is kept, and said
    page.get_by_role("textbox", name="Phone").fill("555 0155")
    owner.clients.change(client, edit_of(ClientEdit, client, hours="mornings"))
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("status")).to_contain_text("Ines Marrow changed other fields")
    expect(page.get_by_role("textbox", name="When")).to_have_value("mornings")
    client = owner.clients.find("Kelpie Boatyard")
    assert (client.phone, client.hours) == ("555 0155", "mornings")
    # in the same field both are shown first
    page.get_by_role("textbox", name="Phone").fill("555 0156")
    owner.clients.change(client, edit_of(ClientEdit, client, phone="555 0199", hours="evenings"))
    page.get_by_role("button", name="Save").click()
    conflict = page.get_by_test_id("conflict")
    expect(conflict).to_contain_text("Ines Marrow changed this")
    expect(conflict.get_by_role("row", name="phone")).to_contain_text("555 0199")
    expect(conflict.get_by_role("row", name="hours")).to_have_count(0)
    assert owner.clients.find("Kelpie Boatyard").phone == "555 0199", (
        "nothing is overwritten unseen"
    )
    page.get_by_role("button", name="Save mine").click()
    expect(page.get_by_role("status")).to_have_text("Saved.")
    expect(conflict).not_to_be_visible()
    changed = owner.clients.find("Kelpie Boatyard")
    assert (changed.phone, changed.hours) == ("555 0156", "evenings")
    page.goto("/clients?words=0156")
    expect(page.get_by_test_id("clients").get_by_role("row")).to_have_count(2)


def test_what_a_machine_is_is_corrected_and_read_again(
    page: Page, owner: Phylax, desk: Machine
) -> None:
    page.goto(f"/machines/{desk.tag}#itself")
    page.locator("#itself").scroll_into_view_if_needed()
    model = page.get_by_label("Model")
    expect(model).to_have_value("Slate 14")
    expect(page.get_by_text("read when it was enrolled").first).to_be_visible()
    model.fill("Slate 14 (new board)")
    page.get_by_label("Bought in").fill("2022")
    page.get_by_label("Where it stands").fill("the counter")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("reads as Slate 14")).to_be_visible()
    now = owner.machines.get(desk.id)
    assert (now.model, now.year, now.location) == ("Slate 14 (new board)", 2022, "the counter")
    assert now.memory == 8 * 2**30, "what nobody typed is the same to the byte"
    model.fill("")
    page.get_by_role("button", name="Save").click()
    expect(model).to_have_value("Slate 14")
    assert owner.machines.get(desk.id).model == "Slate 14"


def test_labels_of_a_client_are_printed(page: Page, owner: Phylax, machine: Machine) -> None:
    new = MachineEdit(tag="ferry-board", client_id=machine.client_id, system="linux")
    owner.machines.add(new)
    page.goto(f"/clients/{machine.client_id}")
    page.get_by_role("link", name="Labels to print").click()
    labels = page.get_by_test_id("label")
    expect(labels).to_have_count(2)
    expect(labels.first).to_contain_text("ferry-desk")
    expect(labels.first.get_by_role("img")).to_have_attribute(
        "alt", re.compile(r"Opens http://127\.0\.0\.1:\d+/machines/ferry-desk$")
    )
    page.goto("/machines/labels?of=1,1,x,-3,1.5")
    expect(labels).to_have_count(1)


def test_a_machine_retires_and_returns_in_the_console(
    page: Page, owner: Phylax, desk: Machine
) -> None:
    page.goto(f"/machines/{desk.tag}")
    page.get_by_role("button", name=f"Retire {desk.tag}").scroll_into_view_if_needed()
    page.get_by_role("button", name=f"Retire {desk.tag}").click()
    expect(page.get_by_text("may not call any more")).to_be_visible()
    page.get_by_label("Why (goes into the record)").fill("Sold")
    page.get_by_role("button", name="Retire", exact=True).click()
    retired = page.get_by_test_id("retired")
    expect(retired).to_contain_text("Sold")
    expect(page.get_by_role("button", name="Survey it")).to_have_count(0)
    assert owner.machines.get(desk.id).retired_at
    retired.get_by_role("button").click()
    page.get_by_role("button", name="Bring back", exact=True).click()
    expect(retired).to_have_count(0)
    assert owner.machines.get(desk.id).retired_at is None
