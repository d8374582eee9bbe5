"""The service goes away in the middle of an action: it is said, what was typed stays, and the same
button does it once the service is back."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

import pytest
from playwright.sync_api import Page, Route, expect

from console_checks import write
from helpers import TUESDAY
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


@dataclass(frozen=True)
class Action:
    path: str
    address: str
    """Of the call that does not get through."""
    press: str
    shown: str
    """On the page once it is done."""
    typed: tuple[tuple[str, str], ...] = ()
    before: Callable[[Page], None] = lambda page: None


def change_trash(page: Page) -> None:
    row = page.get_by_role("row").filter(has_text="Trash").first
    row.get_by_role("button", name="Change").click()


def open_threshold(page: Page) -> None:
    page.get_by_test_id("threshold").locator("summary").click()


def open_views(page: Page) -> None:
    page.get_by_role("button", name="Saved views").click()


ACTIONS = {
    "note": Action(
        "/machines/ferry-desk", r"/records$", "Write down", "loud fan",
        (("Write something down", "loud fan"),),
    ),
    "token": Action("/shop/access", r"/tokens$", "Make a token", "till",
                    (("What the token is for", "till"),)),
    "closing day": Action("/shop/days", r"/closing-days$", "Close", "Fair", (("Name", "Fair"),)),
    "calendar": Action("/shop/calendars", r"/calendars$", "Make an address", "Wall",
                       (("For what", "Wall"),)),
    "protect list": Action("/rules", r"/protections$", "Add to the list", "/srv/archive",
                           (("What to protect", "/srv/archive"),)),
    "rule": Action("/rules", r"/rules/shop/0/trash$", "Save the rule", "keep for 14 days",
                   (("Keep for days; older goes", "14"),), change_trash),
    "threshold": Action("/machines/ferry-desk", r"/machines/\d+$", "Set", "Nearly full above 80 %",
                        (("Percent used", "80"),), open_threshold),
    "saved view": Action("/machines?system=linux", r"/views$", "Save", "Linux ones",
                         (("Save this view as", "Linux ones"),), open_views),
    "mail server": Action("/shop/notices", r"/mail-server$", "Save", "Saved.",
                          (("Server", "mail.skerry.example"), ("Sender", "desk@skerry.example"))),
    "wishes": Action("/shop/notices", r"/people/\d+/notices$", "Save", "Saved.",
                     (("Mail to", "ines@quayside.example"),)),
    "new machine": Action("/machines/new", r"/machines$", "Add machine", "till-1",
                          (("Tag on its label (small letters, digits, hyphens)", "till-1"),)),
    "pause": Action("/rounds?show=rounds", r"/rounds/\d+$", "Pause", "paused"),
}  # fmt: skip


@pytest.mark.parametrize("name", ACTIONS)
def test_it_is_said_and_nothing_typed_is_lost(
    page: Page, owner: Phylax, machine: Machine, name: str
) -> None:
    action = ACTIONS[name]
    if name == "pause":
        owner.rounds.add(TUESDAY)
    page.goto(action.path)
    action.before(page)
    if name == "new machine":
        page.get_by_role("combobox", name="Whose is it?").click()
        page.get_by_role("option", name=machine.client_name).click()
    form = page.locator("form").filter(
        has=page.get_by_role("button", name=action.press, exact=True)
    )
    if name in ("rule", "pause"):
        form = page.locator("main")
    elif action.typed:
        form = form.filter(has=page.get_by_label(action.typed[0][0], exact=True))
    fields = [(form.get_by_label(label, exact=True), text) for label, text in action.typed]
    for field, text in fields:
        write(field, text)
    tried: list[str] = []

    def refuse(route: Route) -> None:
        if route.request.method == "GET":
            route.continue_()
            return
        tried.append(route.request.method)
        route.abort()

    away = re.compile(rf"/api/v2{action.address}")
    page.route(away, refuse)
    button = form.get_by_role("button", name=action.press, exact=True)
    button.click()
    expect(page.get_by_role("alert").first).to_contain_text("does not answer")
    assert len(tried) == 1
    for field, text in fields:
        expect(field).to_have_value(text)
    page.unroute(away)
    button.click()
    expect(
        page.locator("main, [data-scope=popover]").get_by_text(action.shown).first
    ).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_button_pressed_twice_does_it_once(page: Page, owner: Phylax, machine: Machine) -> None:
    page.goto("/rules")
    write(page.get_by_label("What to protect"), "/srv/archive")
    page.route(
        re.compile(r"/api/v2/protections$"),
        lambda route: (page.wait_for_timeout(300), route.continue_())[1],
    )
    page.get_by_role("button", name="Add to the list").dblclick()
    expect(page.get_by_test_id("protections").get_by_text("/srv/archive")).to_have_count(1)
    expect(page.get_by_role("alert")).to_have_count(0)
    assert len(list(owner.protections.list())) == 1


def test_a_round_waits_for_a_service_that_comes_back(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.goto(f"/rounds/new?machine={machine.tag}")
    expect(page.get_by_text("Which machines (1 machine now)")).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Nights")
    away = re.compile(r"/api/v2/rounds$")
    page.route(away, lambda route: route.abort())
    save = page.get_by_role("button", name="Make the round")
    save.click()
    expect(page.get_by_role("alert")).to_contain_text("does not answer")
    page.unroute(away)
    save.click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    assert [r.name for r in owner.rounds.list()] == ["Nights"]
