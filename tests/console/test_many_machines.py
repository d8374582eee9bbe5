"""A long list of machines: drawn as it is seen, chosen, acted on, kept as a view."""

from __future__ import annotations

import csv
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from console_checks import check_for_everyone
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.ground.machines import System
from phylax.service.context.context import Context
from phylax.store.trends import readings
from phylax.store.clients import shop

NUMBER = 1200


@pytest.fixture
def many(owner: Phylax, context: Context) -> None:
    """Twelve hundred machines of thirty clients; each tenth is nearly full."""
    with context.db.write() as conn:
        clients = [
            shop.add_client(conn, ClientEdit(name=f"Client {n:02d}"), who="test", at=0)
            for n in range(30)
        ]
        for number in range(NUMBER):
            edit = MachineEdit(
                tag=f"m-{number:04d}", client_id=clients[number % 30],
                system=[*System][number % 3],
            )  # fmt: skip
            made = shop.add_machine(conn, edit, who="test", at=0)
            free = number % 50 if number % 10 == 0 else 400 + number % 500
            reading = ReadingIn(mount="/", capacity=1000, free=free, at=context.clock())
            readings.add(conn, made, by_volume([reading]))


def tags(page: Page) -> list[str]:
    return [text.strip() for text in page.locator("tbody th").all_inner_texts()]


def test_rows_are_drawn_as_they_are_seen(page: Page, many: None) -> None:
    page.goto("/machines?sort=tag")
    expect(page.get_by_text("1,200 machines")).to_be_visible()
    expect(page.get_by_text("m-0000")).to_be_visible()
    assert len(tags(page)) < 40
    assert page.evaluate("document.querySelectorAll('*').length") < 2000
    for _ in range(40):
        page.evaluate("scrollTo(0, document.documentElement.scrollHeight)")
        if page.get_by_text("m-1199").count():
            break
        page.wait_for_timeout(100)
    expect(page.get_by_text("m-1199")).to_be_visible()
    assert len(tags(page)) < 40
    check_for_everyone(page, "the end of a long list")


def test_the_service_chooses_sorts_and_pages(page: Page, many: None) -> None:
    page.goto("/machines")
    expect(page.get_by_text("1,200 machines")).to_be_visible()
    page.get_by_role("button", name="nearly full").click()
    expect(page.get_by_text("120 machines")).to_be_visible()
    page.get_by_role("button", name="linux").click()
    expect(page.get_by_text("40 machines")).to_be_visible()
    heading = page.locator("thead").get_by_role("button", name="client")
    heading.click()
    expect(page.locator("th[aria-sort=ascending]")).to_contain_text("client")
    heading.click()
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("client")
    expect(page.locator("tbody tr").first).to_contain_text("Client 2")
    for part in ("tight=yes", "system=linux", "sort=client", "way=other"):
        assert part in page.url
    page.reload()
    expect(page.get_by_text("40 machines")).to_be_visible()
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("client")


def test_columns_and_views_are_kept(page: Page, many: None) -> None:
    page.goto("/machines?system=linux")
    page.get_by_role("button", name="Columns").click()
    panel = page.get_by_role("dialog", name="Columns")
    panel.get_by_label("make and model").check()
    panel.get_by_label("last cleaned").uncheck()
    expect(page.locator("thead")).to_contain_text("make and model")
    expect(page.locator("thead")).not_to_contain_text("last cleaned")
    check_for_everyone(page, "columns")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Saved views").click()
    views = page.get_by_role("dialog", name="Saved views")
    views.get_by_label("Save this view as").fill("Linux, short")
    views.get_by_role("button", name="Save", exact=True).click()
    expect(views.get_by_role("link", name="Linux, short")).to_be_visible()
    check_for_everyone(page, "views")
    page.goto("/machines")
    expect(page.get_by_text("1,200 machines")).to_be_visible()
    page.get_by_role("button", name="Saved views").click()
    views.get_by_role("link", name="Linux, short").click()
    expect(page.get_by_text("400 machines")).to_be_visible()
    expect(page.locator("thead")).to_contain_text("make and model")


def test_chosen_rows_get_a_round_a_rule_and_a_file(
    page: Page, owner: Phylax, many: None, tmp_path: Path
) -> None:
    page.goto("/machines?sort=tag&tight=yes&system=windows")
    expect(page.get_by_text("40 machines")).to_be_visible()
    page.get_by_label("Choose m-0000").check()
    bar = page.get_by_test_id("chosen")
    bar.get_by_role("button", name="Choose all 40").click()
    expect(bar).to_contain_text("40 machines chosen")
    page.get_by_label("Choose m-0000").uncheck()
    expect(bar).to_contain_text("39 machines chosen")
    check_for_everyone(page, "chosen machines")

    with page.expect_download() as saved:
        bar.get_by_role("button", name="Save as CSV").click()
    saved.value.save_as(tmp_path / "machines.csv")
    rows = list(csv.DictReader((tmp_path / "machines.csv").open()))
    assert len(rows) == 39 and "m-0000" not in {row["machine"] for row in rows}

    bar.get_by_role("button", name="Set a rule").click()
    dialogue = page.get_by_role("dialog")
    dialogue.get_by_label("Category").select_option("trash")
    dialogue.get_by_label("Keep for days; older goes").fill("5")
    check_for_everyone(page, "a rule for many")
    dialogue.get_by_role("button", name="Set the rule").click()
    expect(page.get_by_text("The rule is set on 39 machines.")).to_be_visible()
    (trash,) = [rule for rule in owner.rules.list() if rule.category == "trash"]
    assert trash.overrides == 39

    bar.get_by_role("button", name="Make a round").click()
    expect(page.get_by_text("Which machines (39 machines now)")).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Tight ones")
    page.get_by_role("button", name="Make the round").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    (made,) = owner.rounds.list()
    assert made.machines == 39


def test_a_round_may_take_a_machine_and_a_client_beyond_the_first_ones(
    page: Page, owner: Phylax, many: None
) -> None:
    page.goto("/rounds/new")
    page.get_by_label("Name", exact=True).fill("Far ones")
    page.get_by_label("Find a machine", exact=True).fill("m-1199")
    page.get_by_test_id("machine-picker").get_by_label("m-1199").check()
    page.get_by_label("Find a client").fill("Client 29")
    page.get_by_role("button", name="Client 29").click()
    expect(page.get_by_text("Which machines (40 machines now)")).to_be_visible()
    page.get_by_role("button", name="Make the round").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Rounds")
    (made,) = owner.rounds.list()
    assert made.machines == 40, "m-1199 is Client 29's as well"
