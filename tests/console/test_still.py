"""What somebody reads or is about to press does not move under them, whatever happens meanwhile."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, Route, expect

from conftest import Service
from console_checks import fill
from helpers import wait_until
from phylax.client import Phylax
from phylax.core.runs.runs import RunState
from phylax.core.clients.shop import Machine, MachineEdit


def rest_on(target: Locator) -> None:
    """Put the pointer on something, again as long as it moves away while the page is still drawn."""
    resting = 0
    while resting < 20:
        if not resting:
            target.hover()
        target.page.wait_for_timeout(60)
        resting = resting + 1 if target.evaluate("it => it.matches(':hover')") else 0


def test_a_list_waits_until_who_is_in_it_has_gone(
    page: Page, service: Service, owner: Phylax, machine: Machine
) -> None:
    fill(service, machine)
    page.goto("/")
    needs = page.get_by_test_id("needs-you")
    expect(needs.get_by_role("link", name="ferry-desk")).to_be_visible()
    rest_on(needs.get_by_text("ferry-desk"))
    edit = MachineEdit(tag="a-till", client_id=machine.client_id, system="linux")
    fill(service, owner.machines.add(edit))
    changed = page.get_by_text("This has changed.")
    expect(changed).to_be_visible()
    assert needs.get_by_role("link", name="a-till").count() == 0
    page.mouse.move(5, 5)
    expect(needs.get_by_role("link", name="a-till")).to_be_visible()
    expect(changed).to_have_count(0)

    # by the keyboard it waits as well, and is shown when somebody says so
    page.keyboard.press("Tab")
    needs.get_by_role("link").first.focus()
    edit = MachineEdit(tag="b-till", client_id=machine.client_id, system="linux")
    fill(service, owner.machines.add(edit))
    page.get_by_role("button", name="Show it now").click()
    expect(needs.get_by_role("link", name="b-till")).to_be_visible()


def test_a_pointer_that_lies_in_a_list_all_night_keeps_nothing_from_it(
    page: Page, service: Service, owner: Phylax, machine: Machine
) -> None:
    fill(service, machine)
    page.clock.install()
    page.goto("/")
    needs = page.get_by_test_id("needs-you")
    rest_on(needs.get_by_text("ferry-desk"))
    edit = MachineEdit(tag="a-till", client_id=machine.client_id, system="linux")
    fill(service, owner.machines.add(edit))
    expect(page.get_by_text("This has changed.")).to_be_visible()
    page.clock.run_for(61_000)
    expect(needs.get_by_role("link", name="a-till")).to_be_visible()


def test_a_list_stands_where_it_was_first_drawn_however_late_the_guide_above_it_comes(
    page: Page, service: Service, machine: Machine
) -> None:
    """A pointer on it would not be on it any more, nor press what was aimed at."""
    fill(service, machine)
    late: list[Route] = []
    is_late = True
    page.route(
        re.compile("/api/v2/(runs|rounds|clients|machines)[?]"),
        lambda route: late.append(route) if is_late else route.continue_(),
    )
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    needs = page.get_by_test_id("needs-you")
    while len(late) < 4:
        page.wait_for_timeout(50)
    first = needs.bounding_box() if needs.count() else None
    is_late = False
    for route in late:
        route.continue_()
    expect(page.get_by_test_id("first-shop")).to_be_visible()
    expect(needs).to_be_visible()
    drawn = needs.bounding_box()
    assert first in (None, drawn)
    assert drawn and drawn["y"] > 200, "below the guide"


def test_what_one_does_in_a_list_shows_at_once(
    page: Page, service: Service, owner: Phylax, machine: Machine
) -> None:
    fill(service, machine)
    page.goto("/")
    needs = page.get_by_test_id("needs-you")
    rest_on(needs.get_by_text("ferry-desk"))
    needs.get_by_role("button", name="Deal with: ferry-desk").click()
    page.get_by_role("button", name="Take it on").click()
    expect(needs.get_by_text("looks after it")).to_be_visible()


def test_rows_of_machines_stay_in_order_and_another_question_is_answered_at_once(
    page: Page, service: Service, owner: Phylax, machine: Machine
) -> None:
    page.goto("/machines")
    table = page.get_by_test_id("machines")
    rest_on(table.get_by_text("ferry-desk"))
    owner.machines.add(MachineEdit(tag="a-till", client_id=machine.client_id, system="linux"))
    expect(page.get_by_text("This has changed.")).to_be_visible()
    assert table.get_by_text("a-till").count() == 0
    # typed while the pointer rests where it is
    page.get_by_label("Words").focus()
    page.keyboard.type("till")
    expect(table.get_by_text("a-till")).to_be_visible()
    expect(table.get_by_text("ferry-desk")).to_have_count(0)


def test_a_survey_renews_each_line_where_it_stands(
    page: Page, owner: Phylax, machine: Machine, agent: None
) -> None:
    def survey() -> int:
        return owner.runs.survey(machine.tag).id

    def ended(number: int) -> bool:
        return owner.runs.get(number).state is RunState.DONE

    first = survey()
    wait_until(lambda: ended(first), "the first survey")
    page.goto(f"/machines/{machine.tag}")
    ledger = page.get_by_test_id("ledger")
    row = ledger.get_by_role("row").filter(has_text="Download")
    expect(row).to_be_visible()
    page.wait_for_load_state("networkidle")
    row.scroll_into_view_if_needed()
    rows = ledger.get_by_role("row").count()
    box = row.bounding_box()
    second = survey()
    while not ended(second):
        now = row.bounding_box()
        assert box and now and abs(now["y"] - box["y"]) <= 1, (box, now)
        assert ledger.get_by_role("row").count() >= rows
        page.wait_for_timeout(50)
    expect(page.get_by_text("In part:")).to_have_count(0)
    now = row.bounding_box()
    assert box and now and abs(now["y"] - box["y"]) <= 1


def test_what_is_about_to_be_pressed_in_the_search_stays_under_the_pointer(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    """What the service finds comes later, and above pages and actions."""
    for number in range(5):
        owner.records.add_note(machine.tag, f"closing the lid makes it howl, {number}")
    late: list[Route] = []
    is_late = True
    page.route(
        re.compile("/api/v2/search[?]"),
        lambda route: late.append(route) if is_late else route.continue_(),
    )
    page.goto("/rules")
    page.locator("[data-search]").click()
    find = page.get_by_role("combobox", name="Find a machine")
    find.fill("closing")
    days = page.get_by_role("option", name="Closing days")
    days.hover()
    while not late:
        page.wait_for_timeout(50)
    before = days.bounding_box()
    is_late = False
    with page.expect_response(re.compile("/api/v2/search[?]")):
        for route in late:
            route.continue_()
    page.wait_for_timeout(300)
    assert days.bounding_box() == before
    page.mouse.down()
    page.mouse.up()
    expect(page.get_by_role("heading", level=1)).to_have_text("Closing days")
