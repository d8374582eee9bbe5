"""The search over everything, in the browser: by the box in the head, in the address, as files."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from console_checks import check_for_everyone
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.desk.visits import NewVisit


def test_everything_is_found_and_stays_in_the_address(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It howls <b>like</b> a wolf"))
    for number in range(10):
        owner.records.add_note(machine.tag, f"A wolf of a fan, {number}")
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("wolf")
    expect(page.get_by_role("option", name="Everything with “wolf”")).to_be_visible()
    expect(page.get_by_role("option", name="Visit 1")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("hits-visit")).to_contain_text("It howls <b>like</b> a wolf")
    expect(page.get_by_test_id("hits-entry").locator("li")).to_have_count(8)
    check_for_everyone(page, "search")
    entries = page.get_by_role("region", name="Entries")
    entries.get_by_role("button", name="Show more").click()
    expect(page.get_by_test_id("hits-entry").locator("li")).to_have_count(11)
    expect(page.get_by_test_id("hits-visit")).to_have_count(0)
    assert page.url.endswith("/search?words=wolf&only=entry")
    page.reload()
    expect(page.get_by_test_id("hits-entry").locator("mark").first).to_have_text("wolf")
    with page.expect_download() as download:
        page.get_by_role("link", name="CSV").click()
    assert download.value.path().read_text("utf-8").count("wolf") == 11
    page.get_by_placeholder("A name, a tag").fill("from:nonsense")
    expect(page.get_by_text("is no day")).to_be_visible()
    page.get_by_placeholder("A name, a tag").fill("nothing-like-that")
    page.get_by_role("button", name="Entries").click()
    expect(page.get_by_text("Nothing fits.")).to_be_visible()
