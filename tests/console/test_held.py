"""Held things in a real browser: said before cleaning, shown afterwards, put back, let go."""

import re
from datetime import timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect

from console_checks import check_for_everyone
from helpers import enrol
from phylax.client import Phylax
from phylax.core.ground.events import EventKind
from phylax.core.retention import Rule, Scope
from phylax.core.clients.shop import Machine
from phylax.service.context.context import Context
from phylax.store.file import events


@pytest.fixture
def held(page: Page, agent: None, owner: Phylax, machine: Machine, home: Path) -> Path:
    """Two downloads, agreed to and held for a week; the machine's page is open."""
    owner.rules.put(
        Scope.MACHINE, machine.id, "downloads",
        Rule(off=False, keep_for=timedelta(days=90), hold_for=timedelta(days=7)),
    )  # fmt: skip
    page.goto(f"/machines/{machine.tag}")
    page.get_by_role("button", name="Survey it").click()
    row = page.get_by_role("row").filter(has_text="Download folders")
    row.get_by_role("button", name="needs approval").click()
    page.get_by_role("button", name="Tick what the rule proposes").click()
    page.get_by_role("button", name="Use this selection").click()
    page.get_by_label("Clean Temporary files of each person").uncheck()
    page.get_by_role("button", name="Clean…").click()
    dialogue = page.get_by_test_id("clean-dialogue")
    expect(dialogue).to_contain_text("Held first, about 13.4 MiB")
    expect(dialogue).not_to_contain_text("Deleted for good")
    page.get_by_role("button", name="Clean now").click()
    expect(page.get_by_test_id("result")).to_contain_text("held, can be put back")
    expect(page.get_by_test_id("balance")).to_contain_text("becomes free only when it is removed")
    return home / "Downloads"


def test_held_things_are_looked_through_and_put_back(page: Page, held: Path) -> None:
    assert list(held.iterdir()) == []
    section = page.get_by_test_id("held")
    expect(section).to_contain_text("2 items, 13.4 MiB")
    section.get_by_role("button", name="Download folders").click()
    section.get_by_label("Filter by path").fill("KEEP")
    expect(section.get_by_role("row")).to_have_count(1)
    section.get_by_label("Put keep.pdf back").check()
    check_for_everyone(page, "a machine's page with held things")
    section.get_by_role("button", name="Put 1 item back").click()
    expect(page.get_by_test_id("result")).to_contain_text("Put back 1 item")
    expect(section).to_contain_text("1 item put back")
    assert [path.name for path in held.iterdir()] == ["keep.pdf"]
    section.get_by_role("button", name="Put all back").click()
    expect(section).not_to_be_visible()
    assert sorted(path.name for path in held.iterdir()) == ["keep.pdf", "let-go.iso"]


def test_letting_go_early_asks_once_and_names_it(page: Page, held: Path) -> None:
    page.get_by_test_id("held").get_by_role("button", name="Delete now…").click()
    expect(page.get_by_text("Deleted for good: 2 items, 13.4 MiB held of")).to_be_visible()
    page.get_by_role("button", name="Delete now", exact=True).click()
    expect(page.get_by_test_id("result")).to_contain_text("Deleted 2 items")
    expect(page.get_by_test_id("held")).not_to_be_visible()
    assert list(held.iterdir()) == []


def test_what_was_opened_in_a_look_stays_when_the_look_is_through(
    page: Page, owner: Phylax, machine: Machine, context: Context, home: Path, tmp_path: Path
) -> None:
    """However long the whole of it takes to come after the last part."""
    owner.rules.put(
        Scope.MACHINE, machine.id, "downloads", Rule(off=False, keep_for=timedelta(days=90))
    )
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    run = owner.runs.survey(machine.tag)
    agent.once()

    def still_running(route: Route) -> None:
        answer = route.fetch()
        body = answer.json()
        for told in body if isinstance(body, list) else [body]:
            told["state"] = "running"
        route.fulfill(response=answer, json=body)

    def not_yet(route: Route) -> None:
        body = {"type": "about:blank", "status": 404, "detail": "not surveyed yet"}
        route.fulfill(status=404, json=body)

    def tell(kind: EventKind) -> None:
        with context.db.write() as conn:
            events.publish(conn, kind, at=context.now(), machine_id=machine.id, run_id=run.id)

    runs = re.compile(r"/v2/runs(\?|/\d+$)")
    ledger = re.compile(rf"/v2/machines/{machine.tag}/ledger")
    page.route(runs, still_running)
    page.route(ledger, not_yet)
    page.goto(f"/machines/{machine.tag}")
    row = page.get_by_role("row").filter(has_text="Download folders")
    row.get_by_role("button", name="needs approval").click()
    tick = page.get_by_role("button", name="Tick what the rule proposes")
    expect(tick).to_be_visible()
    page.unroute(runs)
    tell(EventKind.RUN)
    expect(page.locator("#work")).to_contain_text("Last run")
    page.wait_for_timeout(500)
    expect(tick).to_be_visible(timeout=1000)
    page.unroute(ledger)
    tell(EventKind.SURVEY)
    page.wait_for_timeout(1500)
    expect(tick).to_be_visible(timeout=1000)
