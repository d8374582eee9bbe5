"""Five things that people come for, done in the demo by somebody who has read nothing: by how many
clicks and keys, and by which command."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect, sync_playwright

from helpers import living_demo
from phylax.client import Phylax
from phylax.demo import scenario

expect.set_options(timeout=60_000)


class Hands:
    """What a person does with a page, counted."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self.clicks = 0
        self.keys = 0

    def click(self, target: Locator) -> None:
        target.first.click()
        self.clicks += 1

    def type(self, text: str) -> None:
        """Into what has the focus."""
        self.page.keyboard.type(text)
        self.keys += len(text)

    def place(self, name: str) -> None:
        rail = self.page.get_by_role("navigation", name="Places")
        self.click(rail.get_by_role("link", name=name, exact=True))

    def link(self, name: str) -> None:
        self.click(self.page.get_by_role("link", name=name, exact=True))

    def button(self, name: str) -> None:
        self.click(self.page.get_by_role("button", name=name, exact=True))


@pytest.fixture
def shop(tmp_path: Path) -> Iterator[Phylax]:
    with living_demo(tmp_path / "demo", tmp_path / "out") as shop:
        yield shop


@pytest.fixture
def hands(shop: Phylax) -> Iterator[Hands]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium-headless-shell", args=["--no-sandbox"]
        )
        page = browser.new_page(base_url=shop.url, viewport={"width": 1280, "height": 800})
        page.set_default_timeout(90_000)
        page.goto("/sign-in")
        page.get_by_label("Login").fill("ines")
        page.get_by_label("Password").fill(scenario.PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_test_id("sentence")).to_be_visible()
        yield Hands(page)
        browser.close()


def test_five_tasks_take_few_clicks_and_keys(hands: Hands, shop: Phylax) -> None:
    page = hands.page
    took: dict[str, tuple[int, int]] = {}

    def task(name: str) -> None:
        """The one before is over; each begins on *Today*."""
        took[name] = (hands.clicks, hands.keys)
        hands.clicks = hands.keys = 0
        page.goto("/")
        expect(page.get_by_test_id("sentence")).to_be_visible()

    hands.link("oakes-laptop")
    hands.button("Clean…")
    hands.button("Clean now")
    expect(page.get_by_test_id("result")).to_contain_text("done", timeout=180_000)
    task("clean a laptop")

    hands.link("choir-server")
    held = page.get_by_test_id("held")
    hands.click(held.get_by_role("button", name="Put all back"))
    expect(page.get_by_test_id("result")).to_contain_text("Put back", timeout=180_000)
    task("put something back")

    hands.place("Rounds")
    hands.link("Make a round")
    hands.click(page.get_by_label("Name", exact=True))
    hands.type("Ferry, monthly")
    hands.click(page.get_by_label("In plain words, or a recurrence rule"))
    page.keyboard.press("Control+A")
    hands.keys += 1
    hands.type("every first Monday")
    hands.click(page.get_by_role("button", name="Skerry Ferry Office"))
    hands.button("Make the round")
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    (made,) = (r for r in shop.rounds.list() if r.name == "Ferry, monthly")
    assert (made.machines, made.often) == (3, "every month on the first Monday")
    task("a round every first Monday for all of a client's machines")

    hands.place("Machines")
    hands.link("ferry-desk")
    hands.link("last month")
    expect(page.get_by_text(re.compile("Removed|Looked through")).first).to_be_visible()
    task("what was done on a machine last month")

    hands.place("Trends")
    first = page.get_by_role("table").first.get_by_role("row").nth(2)
    expect(first).to_contain_text("vet-xray")
    expect(first).to_contain_text("Cleaning cannot help")
    task("which machine is full first, and why")

    assert took == {
        "clean a laptop": (3, 0),
        "put something back": (2, 0),
        "a round every first Monday for all of a client's machines": (6, 33),
        "what was done on a machine last month": (3, 0),
        "which machine is full first, and why": (1, 0),
    }
