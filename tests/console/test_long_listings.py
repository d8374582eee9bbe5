"""Listings of many thousand items: only what is seen is drawn and asked for, all can be chosen."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, Route, expect

from console_checks import check_for_everyone
from helpers import enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.retention import Rule, Scope
from phylax.core.clients.shop import Machine
from phylax.core.survey import Item
from phylax.service.context.context import Context
from phylax.store.survey import surveys

MANY = 20_000


@pytest.fixture
def listing(
    page: Page, owner: Phylax, machine: Machine, tmp_path: Path, context: Context
) -> Locator:
    """Open: 20,000 items of 1 to 20,000 bytes, each second proposed, and one real file."""
    home = make_standin(tmp_path / "m")
    make_file(home / "Downloads/real.iso", 9_000_000, days_old=300)
    owner.rules.put(
        Scope.MACHINE, machine.id, "downloads", Rule(off=False, keep_for=timedelta(days=90))
    )
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    agent.once()
    owner.runs.survey(machine.tag)
    agent.once()
    survey = owner.machines.ledger(machine.tag).survey_id
    (real,) = owner.surveys.listing(survey, "downloads")
    items = [
        Item(
            place=real.place,
            seal=real.seal,
            path=f"films/part-{size:05d}",
            size=size,
            aged_from=real.aged_from,
            reason="too young" if size % 2 else None,
        )
        for size in range(1, MANY + 1)
    ]
    with context.db.write() as conn:
        surveys.add_items(conn, survey, "downloads", 2, items)
    page.goto(f"/machines/{machine.tag}")
    row = page.get_by_role("row").filter(has_text="Download folders")
    row.get_by_role("button", name="needs approval").click()
    return page.get_by_role("dialog")


def test_only_what_is_seen_is_drawn_and_everything_can_be_ticked(
    page: Page, listing: Locator
) -> None:
    items = listing.get_by_test_id("items")
    expect(items.locator("tbody tr").first).to_contain_text("real.iso")
    expect(listing.get_by_label("Let films/part-20000 go")).to_be_visible()
    drawn = items.locator("tbody tr")
    assert drawn.count() < 60
    check_for_everyone(page, "a long listing")
    items.evaluate("box => box.scrollTo(0, box.scrollHeight)")
    expect(listing.get_by_text("films/part-00001", exact=True)).to_be_visible()
    assert drawn.count() < 60
    listing.get_by_label("Let films/part-00002 go").check()
    expect(listing).to_contain_text("1 item ticked, 2 B")
    listing.get_by_role("button", name="Tick what the rule proposes").click()
    expect(listing).to_contain_text("10,001 items ticked")
    listing.get_by_label("Let films/part-00001 go").check()
    expect(listing).to_contain_text("10,002 items ticked")
    listing.get_by_role("button", name="Untick all").click()
    expect(listing).to_contain_text("0 items ticked, 0 B")


def test_another_folder_begins_at_its_top_and_a_late_answer_never_shows(
    page: Page, listing: Locator
) -> None:
    items = listing.get_by_test_id("items")
    expect(listing.get_by_label("Let films/part-20000 go")).to_be_visible()
    items.evaluate("box => box.scrollTo(0, box.scrollHeight)")
    held: list[Route] = []
    page.route("**/order?*folder=films*", lambda route: held.append(route))
    listing.get_by_role("button", name="films").click()
    expect(listing.get_by_role("button", name="Up")).to_be_visible()
    page.wait_for_timeout(300)
    assert held, "the order of this folder was asked for"
    listing.get_by_role("button", name="Up").click()
    expect(listing.get_by_label("Let real.iso go")).to_be_visible()
    for route in held:
        route.continue_()
    page.wait_for_timeout(500)
    expect(listing.get_by_label("Let real.iso go")).to_be_visible()
    page.unroute("**/order?*folder=films*")
    listing.get_by_role("button", name="films").click()
    expect(listing.get_by_label("Let films/part-20000 go")).to_be_visible()
    expect(listing.get_by_label("Let real.iso go")).to_have_count(0)
