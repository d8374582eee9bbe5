"""Many tabs of one browser, and a service that goes away in the middle."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, Request, expect

from conftest import Service
from phylax.client import Phylax
from phylax.core.shop import Machine


def test_ten_tabs_listen_by_one_stream_and_all_hear(
    page: Page, owner: Phylax, service: Service, machine: Machine
) -> None:
    """A browser has six connections to one host; with a stream for each tab the seventh stalls."""
    streams: list[Request] = []
    page.context.on(
        "request", lambda r: streams.append(r) if r.url.endswith("/events") else None
    )
    tabs = [page.context.new_page() for _ in range(10)]
    for tab in tabs:
        tab.goto(f"/machines/{machine.tag}")
        expect(tab.get_by_role("heading", level=1)).to_have_text(machine.tag)
    assert len(streams) == 1
    owner.records.add_note(machine.tag, "heard by all")
    for tab in tabs:
        expect(tab.get_by_text("heard by all")).to_be_visible()
    # the one that listens is closed: another takes over
    tabs[0].close()
    expect(tabs[1].get_by_text("heard by all")).to_be_visible()
    tabs[1].wait_for_timeout(1000)
    owner.records.add_note(machine.tag, "heard by the rest")
    for tab in tabs[1:]:
        expect(tab.get_by_text("heard by the rest")).to_be_visible()
    assert len(streams) == 2


@pytest.mark.parametrize(
    ("path", "prepare", "press", "address", "alert_gone"),
    [
        ("/machines/ferry-desk", ("Write something down", "loud fan"), "Write down",
         r"/api/v1/records$", "loud fan"),
        ("/shop/access", ("What the token is for", "till"), "Make a token",
         r"/api/v1/tokens$", "till"),
        ("/shop/days", ("Name", "Fair"), "Close", r"/api/v1/closing-days$", "Fair"),
        ("/shop/calendars", ("For what", "Wall"), "Make an address", r"/api/v1/calendars$", "Wall"),
    ],
    ids=["note", "token", "closing day", "calendar"],
)  # fmt: skip
def test_a_service_that_is_away_in_the_middle_of_an_action_is_said_and_nothing_typed_is_lost(
    page: Page, machine: Machine, path: str, prepare: tuple[str, str], press: str, address: str,
    alert_gone: str,
) -> None:  # fmt: skip
    page.goto(path)
    label, text = prepare
    field = page.get_by_label(label, exact=True)
    field.fill(text)
    field.fill(text)
    away = re.compile(address)
    page.route(away, lambda route: route.abort())
    page.get_by_role("button", name=press, exact=True).click()
    expect(page.get_by_role("alert").first).to_contain_text("does not answer")
    expect(field).to_have_value(text)
    page.unroute(away)
    page.get_by_role("button", name=press, exact=True).click()
    expect(page.locator("main")).to_contain_text(alert_gone)
    expect(page.get_by_role("alert")).to_have_count(0)


def test_a_round_and_a_rule_wait_for_a_service_that_comes_back(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.goto(f"/rounds/new?machine={machine.tag}")
    expect(page.get_by_text("Which machines (1 machine now)")).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Nights")
    away = re.compile(r"/api/v1/rounds$")
    page.route(away, lambda route: route.abort())
    save = page.get_by_role("button", name="Make the round")
    save.click()
    expect(page.get_by_role("alert")).to_contain_text("does not answer")
    page.unroute(away)
    save.click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    assert [r.name for r in owner.rounds.list()] == ["Nights"]
