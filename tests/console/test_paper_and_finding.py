"""Pages on paper, entries by their filters, what is found, and every part of the console."""

from __future__ import annotations

import io
import re
from datetime import timedelta
from pathlib import Path

from playwright.sync_api import Page, Route, expect
from pypdf import PdfReader

from conftest import Service
from console_checks import check_for_everyone
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit


def _on_paper(page: Page, size: str) -> list[str]:
    return [sheet.extract_text() for sheet in PdfReader(io.BytesIO(page.pdf(format=size))).pages]


def test_a_machines_page_prints_in_order_and_in_lines(
    page: Page, owner: Phylax, machine: Machine, agent: None, home: Path
) -> None:
    for state in owner.runs.follow(owner.runs.survey(machine.tag).id):
        assert state.state != "failed"
    owner.records.add_note(machine.tag, "The fan is loud, told the client by phone.")
    page.goto(f"/machines/{machine.tag}")
    expect(page.get_by_test_id("ledger")).to_be_visible()
    expect(page.get_by_text("The fan is loud")).to_be_visible()
    expect(page.get_by_role("application")).to_be_visible()
    expect(page.get_by_text("Asking the service…")).to_have_count(0)
    for size in ("A4", "Letter"):
        sheets = _on_paper(page, size)
        text = "\n".join(sheets)
        order = [
            machine.tag, "Trend", "Last run", "What would be removed", "Temporary files of each person",
            "Download folders", "Protected", "Rounds", "Record", "The fan is loud",
        ]  # fmt: skip
        assert not [words for words in order if words not in text], text
        places = [text.index(words) for words in order]
        assert places == sorted(places)
        # a ledger's line is together, and not a word on each line of the paper
        assert places[4] < text.index("114.4 MiB", places[4]) < places[5]
        words = [len(line.split()) for line in text.splitlines() if line.strip()]
        assert sum(words) / len(words) > 3
        assert len(sheets) <= 4
        for unwanted in ("Sign out", "Find anything", "Write down", "Survey it"):
            assert unwanted not in text


def test_a_run_that_is_over_is_not_running_while_the_page_asks_for_it(
    page: Page, owner: Phylax, machine: Machine, agent: None, home: Path
) -> None:
    for _ in owner.runs.follow(owner.runs.survey(machine.tag).id):
        pass
    pending: list[Route] = []
    page.route(re.compile(r"/api/v2/runs/\d+$"), lambda route: pending.append(route))
    page.goto(f"/machines/{machine.tag}")
    expect(page.get_by_role("heading", name="Last run")).to_be_visible()
    assert page.get_by_role("heading", name="Running now").count() == 0
    assert pending, "the run itself has not been answered yet"
    for route in pending:
        route.continue_()


def test_entries_are_filtered_and_the_address_keeps_it(
    page: Page, owner: Phylax, service: Service, machine: Machine
) -> None:
    other = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    yard = owner.machines.add(MachineEdit(tag="yard", client_id=other.id, system="linux"))
    owner.records.add_note(machine.tag, "told by phone")
    with service.as_("wren") as wren:
        wren.records.add_note(yard.tag, "fan replaced")
    page.goto("/records")
    expect(page.get_by_text("Taken in").first).to_be_visible()
    page.get_by_role("button", name="notes").click()
    expect(page.get_by_text("Taken in")).to_have_count(0)
    main = page.locator("main")
    expect(main).to_contain_text("told by phone")
    page.get_by_label("Who").select_option("Wren Halloran")
    expect(main).not_to_contain_text("told by phone")
    expect(main).to_contain_text("fan replaced")
    assert "kind=note" in page.url and "who=Wren" in page.url
    page.reload()
    expect(main).to_contain_text("fan replaced")
    expect(main).not_to_contain_text("told by phone")
    page.get_by_role("link", name="Show everything").click()
    box = page.get_by_role("combobox", name="Client")
    box.click()
    box.fill("kelpie")
    page.get_by_role("option", name="Kelpie Boatyard").click()
    expect(main).not_to_contain_text("told by phone")
    expect(main).to_contain_text("fan replaced")
    assert f"client={other.id}" in page.url
    page.reload()
    expect(box).to_have_value("Kelpie Boatyard")
    check_for_everyone(page, "chosen entries")
    tomorrow = (service.context.clock() + timedelta(days=1)).date().isoformat()
    page.goto(f"/records?since={tomorrow}")
    expect(page.get_by_text("No entry is like that")).to_be_visible()
    # an address that somebody mistyped is as if it were not there
    page.goto("/records?since=yesterday&until=2026-13-45&client=x")
    expect(main).to_contain_text("fan replaced")
    today = service.context.clock().date().isoformat()
    page.goto(f"/records?since={today}&until={today}")
    expect(main).to_contain_text("fan replaced")


def test_what_is_found_are_machines_clients_entries_pages_and_actions(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    owner.records.add_note(machine.tag, "ferry fan is loud")
    page.goto("/rules")
    find = page.get_by_role("combobox", name="Find a machine")
    page.locator("[data-search]").click()
    for words, option, heading in (
        ("skerry", re.compile("^Skerry Ferry Office"), "Skerry Ferry Office"),
        ("ferry-desk", "ferry-desk Skerry Ferry Office", "ferry-desk"),
        ("loud", "ferry fan is loud", "Records"),
        ("closing", "Closing days", "Closing days"),
        ("make a", "Make a round", "Make a round"),
    ):
        find.click()
        find.fill(words)
        page.get_by_role("option", name=option).first.click()
        expect(page.get_by_role("heading", level=1)).to_have_text(heading)


def test_every_part_is_fit_for_everyone(page: Page) -> None:
    page.goto("/parts")
    expect(page.get_by_role("heading", name="Two versions")).to_be_visible()
    check_for_everyone(page, "the parts")
    page.get_by_role("button", name="Open a dialogue").click()
    expect(page.get_by_role("dialog")).to_be_visible()
    check_for_everyone(page, "a dialogue")
    page.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Panel").click()
    expect(page.get_by_text("What is in it.")).to_be_visible()
    check_for_everyone(page, "a panel")


PAGES = (
    "/", "/machines", "/machines/ferry-desk", "/machines/new", "/installed", "/rounds", "/rounds/new", "/rules",
    "/records", "/trends", "/routines", "/shop", "/shop/people", "/shop/access", "/shop/days",
    "/shop/calendars", "/shop/notices", "/shop/changes",
)  # fmt: skip


def test_no_page_sticks_out_of_320_pixels_and_its_tables_are_named(
    page: Page, machine: Machine
) -> None:
    page.set_viewport_size({"width": 320, "height": 640})
    for path in PAGES:
        page.goto(path)
        expect(page.locator("h1").first).to_be_visible()
        expect(page.get_by_text("Asking the service…")).to_have_count(0)
        page.wait_for_timeout(300)
        assert page.evaluate("document.documentElement.scrollWidth") <= 320, path
        unnamed = page.evaluate(
            "[...document.querySelectorAll('main table')].filter(t => !t.caption ||"
            " [...t.querySelectorAll('thead th')].some(h => !h.scope)).length"
        )
        assert unnamed == 0, path
        check_for_everyone(page, f"{path} on a small phone", modes=("light",))
