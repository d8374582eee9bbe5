"""An empty shop leads to its first round, and the demo through what can be tried: by what was done."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from conftest import Service
from console_checks import check_for_everyone
from helpers import TUESDAY, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit


def test_an_empty_shop_leads_to_its_first_round(page: Page, owner: Phylax, tmp_path: Path) -> None:
    page.goto("/")
    steps = page.get_by_test_id("first-shop")
    expect(steps).to_contain_text("0 of 5 done")
    current = steps.locator("[aria-current=step]")
    expect(current).to_contain_text("Write down the first client")
    check_for_everyone(page, "the first steps")
    current.get_by_role("link").click()
    page.wait_for_url("**/clients")

    client = owner.clients.add(ClientEdit(name="Skerry Ferry Office"))
    page.goto("/")
    expect(current).to_contain_text("Add the first machine")
    machine = owner.machines.add(MachineEdit(tag="till", client_id=client.id, system="linux"))
    page.goto("/")
    expect(current.get_by_role("link")).to_have_attribute("href", "/machines/till")
    expect(current).to_contain_text("Put Phylax on it")
    make_file(make_standin(tmp_path / "m") / ".tmp/old", days_old=3)
    agent = enrol(owner, "till", tmp_path / "agent", tmp_path / "m")
    page.goto("/")
    expect(current).to_contain_text("Survey it")
    owner.runs.survey("till")
    agent.once()
    page.goto("/")
    expect(current).to_contain_text("Make a round")
    owner.rounds.add(TUESDAY.model_copy(update={"machine_ids": (machine.id,)}))
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    expect(page.get_by_text("Tuesdays")).to_be_visible()
    expect(steps).to_have_count(0)


def test_the_demo_is_gone_through_by_doing_it(
    page: Page, service: Service, owner: Phylax, machine: Machine
) -> None:
    with service.context.db.write() as conn:
        conn.execute("UPDATE shop SET is_demo = 1")
    client = owner.clients.find("Skerry Ferry Office")
    kiosk = MachineEdit(tag="museum-kiosk", client_id=client.id, system="linux")
    number = owner.machines.add(kiosk).id
    for tag in ("oakes-laptop", "choir-server", "ferry-tickets"):
        owner.machines.add(MachineEdit(tag=tag, client_id=client.id, system="linux"))
    page.goto("/")
    tour = page.get_by_test_id("tour")
    expect(tour).to_contain_text("0 of 6 done")
    check_for_everyone(page, "the tour")
    tour.get_by_role("link", name="Read when ferry-tickets is full").click()
    page.wait_for_url("**/machines/ferry-tickets#trend")
    owner.rounds.add(TUESDAY.model_copy(update={"machine_ids": (number,)}))
    page.goto("/")
    expect(tour).to_contain_text("2 of 6 done")
    tour.get_by_role("button", name="Not now, and not again").click()
    expect(tour).to_have_count(0)
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    expect(tour).to_have_count(0)
