"""Rounds in the browser: the agenda, the week, a list on the bench, what was missed."""

from __future__ import annotations

import re
from datetime import date, datetime, time, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import httpx
from playwright.sync_api import Page, expect

import pytest
from conftest import Service
from console_checks import check_for_everyone
from helpers import TUESDAY, enrol, make_file, make_standin
from phylax.client import Phylax
from phylax.core.retention import Rule, Scope
from phylax.core.clients.shop import Machine


def test_the_agenda_and_the_week_show_what_comes(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    # the browser goes by the real clock: two days ahead the whole window lies in the week shown
    weekday = (datetime.now(ZoneInfo("Europe/Dublin")) + timedelta(days=2)).strftime("%a")[:2]
    weekly = {"recurrence": f"FREQ=WEEKLY;BYDAY={weekday.upper()}", "closes": time(6)}
    owner.rounds.add(TUESDAY.model_copy(update={**weekly, "starts_on": date(2026, 1, 1)}))
    page.goto("/rounds")
    agenda = page.get_by_test_id("agenda")
    expect(agenda.get_by_role("link", name="Tuesdays")).to_have_count(4)
    expect(agenda).to_contain_text("1 machine, about 15 min")
    check_for_everyone(page, "the agenda")
    page.get_by_role("button", name="Week by hour").click()
    page.get_by_label("Which round").select_option("Tuesdays")
    window = page.get_by_test_id("week").get_by_role("link", name=re.compile("window"))
    expect(window).to_have_count(2)  # it goes over midnight
    check_for_everyone(page, "the week")
    window.first.click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Tuesdays")
    page.get_by_role("button", name="Skip or postpone…").click()
    page.get_by_label("Why").fill("exams")
    page.get_by_role("button", name="Skip this time").click()
    expect(page.get_by_test_id("round-machines")).to_contain_text("skipped by Ines Marrow: exams")
    check_for_everyone(page, "a round")
    page.get_by_role("link", name="Change").click()
    page.get_by_label("In plain words, or a recurrence rule").fill("every 2 weeks on Monday")
    expect(page.get_by_test_id("how-often")).to_contain_text("every 2 weeks on Monday at 18:30")
    page.get_by_role("button", name="Save the round").click()
    expect(page.locator("main")).to_contain_text("every 2 weeks on Monday")
    page.get_by_role("button", name="End", exact=True).click()
    page.get_by_role("button", name="End the round").click()
    page.wait_for_url("**/rounds")
    assert list(owner.rounds.list()) == []


def test_a_list_on_the_bench_is_gone_through(
    page: Page, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", 5000, days_old=3)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    page.goto("/machines")
    page.get_by_label("Choose ferry-desk").check()
    page.get_by_test_id("chosen").get_by_role("button", name="Run a routine").click()
    page.get_by_role("combobox", name="Routine").select_option("Before hand-over")
    page.get_by_label("on the bench").check()
    page.get_by_role("button", name="Run it").click()
    expect(page.get_by_text("1 run made.")).to_be_visible()
    page.goto("/runs/1")
    steps = page.get_by_test_id("steps").get_by_role("listitem")
    expect(steps).to_have_count(16)
    steps.nth(0).get_by_label("A word about step 1").fill("letters stay")
    steps.nth(0).get_by_role("button", name="Done").click()
    expect(steps.nth(0)).to_contain_text("done by Ines Marrow")
    agent.once()
    expect(steps.nth(1)).to_contain_text("done by the agent")
    expect(steps.nth(2)).to_contain_text("nothing found")
    check_for_everyone(page, "a list on the bench")
    steps.nth(4).get_by_role("button", name="Done").click()
    expect(steps.nth(4)).to_contain_text("done by Ines Marrow")
    agent.once()
    expect(steps.nth(6)).to_contain_text("done by the agent")
    for number in (7, 12, 14, 15):
        steps.nth(number).get_by_role("button", name="Done").click()
        expect(steps.nth(number)).to_contain_text("done by Ines Marrow")
        if number in (7, 12):
            agent.once()
            expect(steps.nth(number + 1)).to_contain_text("done by the agent")
        if number == 7:
            expect(steps.nth(10)).to_contain_text("nothing changed")
    expect(page.get_by_test_id("result")).to_contain_text("1 item")
    assert owner.runs.get(1).state == "done"


def test_what_was_missed_is_done_again_and_what_waits_is_agreed_to(
    page: Page, owner: Phylax, machine: Machine, service: Service, tmp_path: Path
) -> None:
    home = make_standin(tmp_path / "m")
    make_file(home / "Downloads/film", 5000, days_old=90)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rules.put(Scope.SHOP, 0, "downloads", Rule(off=False, keep_for=timedelta(days=30)))
    (run,) = owner.routines.run(1, [machine.id])
    owner.runs.call_off(run.id)
    with service.context.db.write() as conn:
        conn.execute("UPDATE runs SET state = 'missed', reason = 'the machine was asleep'")
    page.goto("/rounds?show=missed")
    expect(page.get_by_test_id("missed")).to_contain_text("the machine was asleep")
    page.get_by_label(re.compile("Choose ferry-desk")).check()
    page.get_by_role("button", name="Do 1 chosen run now").click()
    expect(page.get_by_text("1 run made")).to_be_visible()
    check_for_everyone(page, "what was missed")
    agent.once()
    page.get_by_role("button", name="Needs approval").click()
    page.get_by_test_id("waiting-listings").get_by_role("checkbox").check()
    page.get_by_label("The client's word").fill("by phone")
    check_for_everyone(page, "what needs approval")
    page.get_by_role("button", name=re.compile("Agree to 1 listing")).click()
    expect(page.get_by_text("1 machine will be cleaned of exactly that")).to_be_visible()
    agent.once()
    assert not (home / "Downloads/film").exists()


def test_a_routine_is_copied_and_put_right(page: Page, owner: Phylax) -> None:
    page.goto("/routines")
    page.get_by_role("button", name="Copy to change it").first.click()
    page.wait_for_url(re.compile(r"/routines/\d+"))
    page.get_by_label("Add a step").select_option("restart")
    page.get_by_role("button", name="Add it").click()
    page.get_by_role("button", name="Move step 4 up").click()
    check_for_everyone(page, "a routine")
    page.get_by_role("button", name="Save a new version").click()
    expect(page.get_by_role("status")).to_contain_text("Saved as version 2")
    expect(page.get_by_role("status")).to_contain_text("a restart comes after everything")
    ours = next(
        routine for routine in owner.routines.list() if routine.name == "Light weekly, ours"
    )
    assert [step.kind for step in ours.steps][-1] == "restart"


def test_closing_days_and_calendar_addresses_are_looked_after(page: Page, owner: Phylax) -> None:
    page.goto("/shop/days")
    page.get_by_label("Name", exact=True).fill("Fair")
    page.get_by_role("button", name="Close", exact=True).click()
    expect(page.get_by_test_id("closing-days")).to_contain_text("Fair")
    page.get_by_role("button", name="Remove").click()
    expect(page.get_by_test_id("closing-days")).to_contain_text("None yet")
    check_for_everyone(page, "closing days")
    page.get_by_role("link", name="Calendars").click()
    page.get_by_label("For what").fill("Wall")
    page.get_by_role("button", name="Make an address").click()
    address = page.get_by_test_id("calendar-address").inner_text()
    assert httpx.get(address, timeout=60).text.startswith("BEGIN:VCALENDAR")
    row = page.get_by_test_id("calendars").get_by_role("listitem")
    row.get_by_role("button", name="Withdraw").click()
    expect(page.get_by_test_id("calendars")).to_contain_text("None yet")
    assert httpx.get(address).status_code == 404
