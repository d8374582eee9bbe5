"""Many tabs of one browser, and a service that goes away in the middle."""

from __future__ import annotations

from playwright.sync_api import Page, Request, expect

from conftest import Service
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


def test_ten_tabs_listen_by_one_stream_and_all_hear(
    page: Page, owner: Phylax, service: Service, machine: Machine
) -> None:
    """A browser has six connections to one host; with a stream for each tab the seventh stalls."""
    streams: list[Request] = []
    page.context.on("request", lambda r: streams.append(r) if r.url.endswith("/events") else None)
    tabs = [page.context.new_page() for _ in range(10)]
    for tab in tabs:
        tab.goto(f"/machines/{machine.tag}")
        expect(tab.get_by_role("heading", level=1)).to_have_text(machine.tag)
        # the record is drawn when somebody comes near
        tab.evaluate("document.querySelector('#record').scrollIntoView()")
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
