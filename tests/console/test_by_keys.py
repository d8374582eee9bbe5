"""The whole story by keys alone: sign in, clean, put back, a rule, a round, and finding things."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Locator, Page, Route, expect

from conftest import Service
from helpers import PASSWORD
from phylax.client import Phylax
from phylax.core.retention import Rule, Scope
from phylax.core.clients.shop import Machine

MOST = 90
"""Presses of Tab until something must be reached."""


def _is_focused(target: Locator) -> bool:
    return target.count() > 0 and bool(
        target.first.evaluate("element => element === document.activeElement")
    )


def tab_to(page: Page, target: Locator) -> None:
    """Go on with Tab until the focus is there."""
    expect(target.first).to_be_visible()
    for _ in range(MOST):
        if _is_focused(target):
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"{target} is not reached by {MOST} tabs")


def press(page: Page, target: Locator) -> None:
    tab_to(page, target)
    page.keyboard.press("Enter")


class HeldScripts:
    """Scripts that a page asks for from now on arrive when they are released."""

    def __init__(self, page: Page) -> None:
        self._page = page
        self._held: list[Route] = []
        self._released = False
        page.wait_for_load_state("networkidle")
        page.route(re.compile(r"/_app/.*\.js"), self._hold)

    def _hold(self, route: Route) -> None:
        if self._released:
            route.continue_()
        else:
            self._held.append(route)

    def wait(self) -> None:
        """Until at least one was asked for."""
        while not self._held:
            self._page.wait_for_timeout(100)

    def release(self) -> None:
        self._released = True
        for route in self._held:
            route.continue_()


@pytest.fixture
def bare(browser: Browser, service: Service) -> Page:
    """Nobody is signed in."""
    context = browser.new_context(base_url=service.url, reduced_motion="reduce")
    page = context.new_page()
    page.set_default_timeout(90_000)
    return page


def test_sign_in_clean_and_put_back(
    bare: Page, owner: Phylax, machine: Machine, agent: None, home: Path
) -> None:
    page = bare
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", Rule(hold_for="P3D"))
    for run in (owner.runs.survey(machine.tag),):
        for state in owner.runs.follow(run.id):
            assert state.state != "failed"
    page.goto("/sign-in")
    page.locator("form").wait_for()
    page.keyboard.press("Tab")
    page.keyboard.type("ines")
    page.keyboard.press("Tab")
    page.keyboard.type(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("sentence")).to_be_visible()

    # find the machine
    page.keyboard.press("/")
    page.keyboard.type("ferry-d")
    expect(page.locator("[data-value^='Machines /machines/ferry-desk']")).to_be_visible()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("ferry-desk")

    # the sections are keys
    expect(page.get_by_test_id("ledger")).to_be_visible()
    sections = page.locator("#content h2").all_inner_texts()
    page.keyboard.press(str(1 + sections.index("What would be removed")))
    expect(page.locator("#ledger")).to_be_focused()
    press(page, page.get_by_role("button", name="Clean…"))
    dialogue = page.get_by_test_id("clean-dialogue")
    expect(dialogue).to_contain_text("Held first")
    press(page, page.get_by_role("button", name="Clean now"))
    expect(dialogue).to_be_hidden()
    # focus is where the work is shown, and not on the body
    expect(page.locator("#work")).to_be_focused()
    held = page.get_by_test_id("held")
    # the hold takes a tenth of the volume
    expect(held).to_contain_text("100 items")
    expect(page.locator("#work")).to_contain_text("Last run")
    assert len(list(home.glob(".tmp/f*"))) == 20

    # and back
    press(page, held.get_by_role("button", name="Put all back"))
    expect(held).to_have_count(0)
    assert len(list(home.glob(".tmp/f*"))) == 120


def test_a_round_and_a_rule(page: Page, owner: Phylax, machine: Machine) -> None:
    page.goto(f"/rounds/new?machine={machine.tag}")
    expect(page.get_by_text("Which machines (1 machine now)")).to_be_visible()
    tab_to(page, page.get_by_label("Name", exact=True))
    page.keyboard.type("By keys")
    expect(page.get_by_label("Name", exact=True)).to_have_value("By keys")
    tab_to(page, page.get_by_label("In plain words, or a recurrence rule"))
    page.keyboard.press("Control+A")
    page.keyboard.type("every 2 weeks on Monday")
    expect(page.get_by_test_id("how-often")).to_contain_text("every 2 weeks on Monday")
    press(page, page.get_by_role("button", name="Make the round"))
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    assert [r.name for r in owner.rounds.list()] == ["By keys"]

    page.keyboard.press("u")
    row = page.get_by_role("row").filter(has_text="Trash").first
    press(page, row.get_by_role("button", name="Change"))
    tab_to(page, page.get_by_label("Keep for days; older goes"))
    page.keyboard.type("12")
    page.keyboard.press("Enter")
    expect(row).to_contain_text("12 days")


def test_the_skip_link_is_first_and_goes_past_the_rail(today: Page) -> None:
    page = today
    page.locator("body").evaluate("body => { document.activeElement.blur(); body.focus() }")
    page.keyboard.press("Tab")
    skip = page.get_by_role("link", name="Skip to the content")
    expect(skip).to_be_focused()
    expect(skip).to_be_in_viewport()
    page.keyboard.press("Enter")
    expect(page.locator("main")).to_be_focused()


def test_dialogues_take_and_give_back_the_focus(page: Page, machine: Machine) -> None:
    page.goto(f"/machines/{machine.tag}")
    opener = page.get_by_role("button", name="Run a routine")
    press(page, opener)
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_be_visible()
    for _ in range(30):
        page.keyboard.press("Tab")
        assert dialogue.evaluate("d => d.contains(document.activeElement)"), "kept inside"
    page.keyboard.press("Escape")
    expect(dialogue).to_be_hidden()
    expect(opener).to_be_focused()


def test_who_moves_on_before_a_dialogue_is_there_comes_back_to_where_it_was_opened(
    page: Page, machine: Machine
) -> None:
    """Its script is fetched when it is first needed, which may take a while."""
    page.goto(f"/machines/{machine.tag}")
    opener = page.get_by_role("button", name="Run a routine")
    expect(opener).to_be_visible()
    scripts = HeldScripts(page)
    press(page, opener)
    scripts.wait()
    page.keyboard.press("Tab")
    expect(opener).not_to_be_focused()
    scripts.release()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_be_visible()
    # the page's own policy forbids it to evaluate a text again and again
    expect(dialogue.locator(":focus")).to_have_count(1)
    page.keyboard.press("Escape")
    expect(dialogue).to_be_hidden()
    expect(opener).to_be_focused()


def test_the_search_that_comes_late_leaves_the_typing_where_it_is(page: Page) -> None:
    """Tab goes through the search, whose script is fetched when it is first reached."""
    page.goto("/rounds/new")
    name = page.get_by_label("Name", exact=True)
    expect(name).to_be_visible()
    scripts = HeldScripts(page)
    tab_to(page, name)
    scripts.wait()
    page.keyboard.type("By ")
    scripts.release()
    expect(page.get_by_role("combobox", name="Find a machine")).to_be_visible()
    page.keyboard.type("keys")
    expect(name).to_have_value("By keys")
