"""Where people got stuck: words that were refused, names that led to a list, no way back, untrue
empty lists."""

from __future__ import annotations

from datetime import timedelta

import pytest
from playwright.sync_api import Page, Route, expect

from conftest import Service
from console_checks import check_for_everyone, fill
from helpers import wait_until
from phylax.client import NotFoundError, Phylax
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.clients.shop import ClosingDaysEdit, Machine

WORDS = "In plain words, or a recurrence rule"


@pytest.fixture
def form(page: Page, machine: Machine) -> Page:
    page.goto(f"/rounds/new?machine={machine.tag}")
    page.get_by_label("Name").fill("Evenings")
    return page


def test_how_often_is_chosen_or_typed_with_the_same_dates(form: Page) -> None:
    often, dates = form.get_by_test_id("how-often"), form.get_by_test_id("next-dates")
    form.get_by_label("Days, weeks, months or years").select_option("month")
    form.get_by_label("On which day of the month").select_option("a certain weekday")
    expect(form.get_by_label(WORDS)).to_have_value("every month on the first Monday")
    expect(often).to_have_text("every month on the first Monday at 18:30")
    expect(dates.get_by_role("listitem")).to_have_count(5)
    chosen = dates.inner_text()
    form.get_by_label(WORDS).fill("every day")
    expect(often).to_have_text("every day at 18:30")
    form.get_by_label(WORDS).fill("every first Monday")
    expect(often).to_have_text("every month on the first Monday at 18:30")
    assert dates.inner_text() == chosen
    check_for_everyone(form, "how often, chosen")

    form.get_by_label(WORDS).fill("every 2 weeks on tue and thu, 5 times")
    days = form.get_by_role("group", name="Days of the week")
    expect(days.get_by_role("button", pressed=True)).to_have_count(2)
    expect(form.get_by_label("Every how many")).to_have_value("2")
    expect(form.get_by_label("Times", exact=True)).to_have_value("5")
    days.get_by_role("button", name="Friday").click()
    expect(form.get_by_label(WORDS)).to_have_value(
        "every 2 weeks on Tuesday, Thursday and Friday, 5 times"
    )
    form.get_by_label("Days, weeks, months or years").select_option("month")
    form.get_by_label("On which day of the month").select_option("certain dates")
    form.get_by_role("button", name="last", exact=True).click()
    expect(often).to_have_text("every 2 months on the 1st and the last day at 18:30, 5 times")


def test_words_that_are_refused_say_what_to_say(form: Page) -> None:
    form.get_by_label(WORDS).fill("every second tuesday")
    alert = form.get_by_role("alert")
    expect(alert).to_contain_text("the 2nd Tuesday of every month")
    assert "/recurrence" not in alert.inner_text()
    form.get_by_label(WORDS).fill("every monday at 7pm")
    form.get_by_role("button", name="Take 19:00 from the words").click()
    expect(form.get_by_test_id("how-often")).to_have_text("every Monday at 19:00")
    expect(form.get_by_label("It may start from")).to_have_value("19:00")


def test_a_tag_that_is_typed_whole_is_opened(page: Page, machine: Machine) -> None:
    page.goto("/")
    page.locator("[data-search]").click()
    page.locator("[data-search]").press_sequentially("FERRY-desk")
    expect(page.get_by_role("option").first).to_contain_text("ferry-desk")
    page.keyboard.press("Enter")
    page.wait_for_url("**/machines/ferry-desk")
    page.goto("/search?words=ferry-desk")
    page.get_by_label("Search everything").press("Enter")
    page.wait_for_url("**/machines/ferry-desk")


def test_what_was_taken_away_comes_back_by_undo(page: Page, owner: Phylax) -> None:
    owner.closing_days.add(
        ClosingDaysEdit.model_validate({"name": "Regatta", "first": "2030-08-03",
                                        "last": "2030-08-07"})
    )  # fmt: skip
    page.goto("/shop/days")
    row = page.get_by_test_id("closing-days").get_by_role("listitem")
    expect(row).to_contain_text("Regatta")
    row.get_by_role("button", name="Remove").click()
    expect(page.get_by_test_id("closing-days")).to_contain_text("None yet.")
    check_for_everyone(page, "an offer to undo")
    page.get_by_test_id("undo").get_by_role("button", name="Undo").click()
    expect(row).to_contain_text("Regatta")
    expect(page.get_by_test_id("undo")).to_have_count(0)
    assert [days.name for days in owner.closing_days.list()] == ["Regatta"]

    owner.protections.add(ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.ledger"), note="books")
    page.goto("/rules")
    page.get_by_role("button", name="Remove from the list").click()
    page.get_by_test_id("undo").get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("protections")).to_contain_text("*.ledger")
    (kept,) = owner.protections.list()
    assert kept.note == "books"


def test_a_rule_and_what_was_put_off_come_back(
    page: Page, owner: Phylax, service: Service, machine: Machine
) -> None:
    undo = page.get_by_test_id("undo").get_by_role("button", name="Undo")
    page.goto("/rules")
    row = page.get_by_role("row").filter(has_text="Trash").first
    for days, before in (("12", None), ("9", timedelta(days=12))):
        row.get_by_role("button", name="Change").click()
        page.get_by_label("Keep for days; older goes").fill(days)
        page.keyboard.press("Enter")
        expect(row).to_contain_text(f"{days} days")
        undo.click()
        expect(page.get_by_test_id("undo")).to_have_count(0)
        expect(row).not_to_contain_text(f"{days} days")
        if before:
            assert owner.rules.get(Scope.SHOP, 0, "trash").rule.keep_for == before
        else:
            with pytest.raises(NotFoundError):
                owner.rules.get(Scope.SHOP, 0, "trash")
            owner.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=timedelta(days=12)))
            page.reload()

    fill(service, machine)
    page.goto("/")
    needs = page.get_by_test_id("needs-you")
    for button in ("Put off", "Take it on"):
        needs.get_by_role("button", name=f"Deal with: {machine.tag}").click()
        page.get_by_role("button", name=button).click()
        expect(undo).to_be_visible()
        assert [a.handling for a in owner.attention.list()] != ["open"]
        undo.click()
        wait_until(
            lambda: [a.handling for a in owner.attention.list()] == ["open"], "it to be back"
        )
        expect(needs.get_by_role("button", name=f"Deal with: {machine.tag}")).to_be_visible()


def test_a_list_that_did_not_come_is_not_called_empty(page: Page, owner: Phylax) -> None:
    def refuse(route: Route) -> None:
        route.fulfill(status=500, content_type="application/problem+json",
                      body='{"title": "x", "detail": "the service failed"}')  # fmt: skip

    page.route("**/api/v2/closing-days", refuse)
    page.goto("/shop/days")
    expect(page.get_by_test_id("closing-days")).to_contain_text("the service failed")
    assert "None yet." not in page.get_by_test_id("closing-days").inner_text()


def test_trends_are_a_place(page: Page, machine: Machine) -> None:
    page.goto("/")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    page.keyboard.press("d")
    page.wait_for_url("**/trends")
    rail = page.get_by_role("navigation", name="Places")
    expect(rail.get_by_role("link", name="Trends")).to_have_attribute("aria-current", "page")
