"""Keeping watch in a browser: the trend and what may come, attention handled, trends, notices."""

from __future__ import annotations

import re
from contextlib import nullcontext as nothing
from functools import partial
from itertools import pairwise
from datetime import timedelta

import pytest
from playwright.sync_api import Page, Route, expect

from console_checks import check_for_everyone, write
from helpers import wait_until
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.store.trends import readings

GIB = 2**30


@pytest.fixture
def filling(context: Context, machine: Machine) -> Machine:
    """From 62 to 20 GiB free of 100 in 42 days: ten days from its threshold."""
    with context.db.write() as conn:
        for day in range(42, -1, -1):
            at = context.clock() - timedelta(days=day)
            reading = ReadingIn(mount="C:", capacity=100 * GIB, free=(20 + day) * GIB, at=at)
            readings.add(conn, machine.id, by_volume([reading]))
    monitor.whole(context)
    return machine


def test_the_trend_shows_what_may_come_by_keyboard_and_as_a_table(
    page: Page, filling: Machine
) -> None:
    page.goto(f"/machines/{filling.tag}")
    expect(page.get_by_test_id("prospects")).to_contain_text("1.0 GiB a day")
    expect(page.get_by_text("80 % forecast range")).to_be_visible()
    chart = page.get_by_role("application")
    chart.focus()
    for _ in range(3):
        page.keyboard.press("ArrowLeft")
    expect(page.locator("p[aria-live=polite]").first).to_contain_text("GiB free")
    page.get_by_role("button", name="Show as a table").click()
    expect(page.get_by_text(", likely").first).to_be_visible()
    overtaken: list[Route] = []

    def hold(route: Route) -> None:
        if "until=" in route.request.url:
            route.continue_()
        else:
            overtaken.append(route)

    page.route(re.compile(r"/trend\?.*since=2020"), hold)
    page.get_by_label("from").fill("2020-01-01")
    empty = page.get_by_text("No readings in this span yet.")
    # a question that was overtaken is not waited for
    with page.expect_event("requestfailed", lambda r: "since=2020" in r.url):
        page.get_by_label("to", exact=True).fill("2020-02-01")
    expect(empty).to_be_visible()
    assert overtaken
    check_for_everyone(page, "trend")


def test_machines_say_when_they_will_be_over(page: Page, filling: Machine) -> None:
    page.goto("/machines?sort=crossing")
    row = page.get_by_test_id("machines").locator("tbody tr").first
    expect(row).to_contain_text(
        re.compile(r"\d+ (Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)")
    )
    page.get_by_role("link", name="Trends over the shop").click()
    expect(page.get_by_test_id("crossing")).to_contain_text("Within 30 days")
    expect(page.get_by_test_id("crossing")).to_contain_text(filling.tag)
    check_for_everyone(page, "trends")


def test_what_needs_somebody_is_taken_on_and_settled(
    page: Page, owner: Phylax, filling: Machine
) -> None:
    page.goto("/")
    needs = page.get_by_test_id("needs-you")
    expect(needs).to_contain_text("will be over 90 %")
    page.get_by_role("button", name=re.compile("^Deal with: ")).first.click()
    page.get_by_role("button", name="Take it on").click()
    expect(needs).to_contain_text("Ines Marrow looks after it")
    page.get_by_role("button", name=re.compile("^Deal with: ")).first.click()
    page.get_by_label("What was done (goes").fill("told the client")
    page.get_by_role("button", name="Mark as done", exact=True).click()
    expect(page.get_by_test_id("sentence")).to_contain_text("Nothing needs attention.")
    assert "told the client" in next(owner.records.list(machine=filling.tag)).text


def test_notices_are_wished_for_in_the_shop(page: Page, owner: Phylax, machine: Machine) -> None:
    page.goto("/shop/notices")
    form = page.get_by_test_id("wishes")
    write(form.get_by_label("Mail to"), "ines@quayside.example")
    form.get_by_label("Quiet from").fill("19:00")
    form.get_by_label("until").fill("07:30")
    expect(form.get_by_label("Mail to")).to_have_value("ines@quayside.example")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    wishes = owner.notices.wishes(owner.people.me().id)
    assert wishes.mail == "ines@quayside.example" and str(wishes.quiet_until) == "07:30:00"
    page.get_by_role("button", name="Send a test mail").click()
    expect(page.get_by_role("alert")).to_contain_text("no mail server")
    check_for_everyone(page, "notices")


def test_a_threshold_is_set_for_a_machine_its_client_and_the_shop(
    page: Page, owner: Phylax, filling: Machine
) -> None:
    page.goto(f"/machines/{filling.tag}")
    part = page.get_by_test_id("threshold")
    expect(part).to_contain_text("Nearly full above 90 % the shop's")
    part.locator("summary").click()
    for percent, whom, said in (
        (85, "all of", f"{filling.client_name}'s"),
        (77, filling.tag, f"{filling.tag}'s own"),
    ):
        choice = part.get_by_label("Holds for").locator("option", has_text=whom)
        part.get_by_label("Holds for").select_option(choice.get_attribute("value"))
        part.get_by_label("Percent used").fill(str(percent))
        part.get_by_role("button", name="Set").click()
        expect(part).to_contain_text(f"Nearly full above {percent} % {said}")
    part.get_by_role("button", name="Remove its own threshold of 77 %").click()
    expect(part).to_contain_text("Nearly full above 85 %")
    assert owner.machines.get(filling.tag).limit_percent == 85
    check_for_everyone(page, "threshold")


@pytest.mark.parametrize("width", [1280, 390])
def test_the_axis_has_even_ticks_and_all_begins_with_the_first_reading(
    page: Page, filling: Machine, width: int
) -> None:
    page.set_viewport_size({"width": width, "height": 800})
    page.goto(f"/machines/{filling.tag}")
    ticks = page.locator("svg.chart text[text-anchor=middle]")
    read = "texts => texts.map(text => [Number(text.getAttribute('x')), text.textContent])"

    def is_even(uneven: float) -> bool:
        """Read in one go: the chart is drawn anew meanwhile."""
        places = ticks.evaluate_all(read)
        written = [text for _, text in places]
        apart = [after[0] - before[0] for before, after in pairwise(places)]
        return (
            len(set(written)) == len(written) >= 2
            and max(apart) - min(apart) <= uneven * max(apart)
        )  # fmt: skip

    # a clock change moves a tick by an hour, a month is a tenth longer than another
    for span, uneven in (("7 days", 0.05), ("30 days", 0.05), ("90 days", 0.2)):
        button = page.get_by_role("button", name=span, exact=True)
        with page.expect_response(lambda r: "/trend?" in r.url) if span != "90 days" else nothing():
            button.click()
        expect(button).to_have_attribute("aria-pressed", "true")
        wait_until(partial(is_even, uneven), f"even ticks of {span}")
    with page.expect_response(lambda r: "/trend?" in r.url):
        page.get_by_role("button", name="all", exact=True).click()
    line = page.locator("svg.chart path.free")
    expect(line).to_have_attribute("d", re.compile(r"^M64[.,]"))
