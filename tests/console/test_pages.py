"""Every page of the console: its state in the address, its edits, its empty and narrow states."""

from datetime import timedelta

import pytest
from playwright.sync_api import Browser, Page, expect

from conftest import Service
from console_checks import check_for_everyone
from helpers import PASSWORD, TUESDAY
from phylax.client import Phylax
from phylax.core.retention import Rule, Scope
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.context.context import Context
from phylax.store.trends import readings


@pytest.fixture
def three(owner: Phylax, context: Context) -> list[Machine]:
    """A full Windows machine, an empty Linux one, and one that nobody has read."""
    client = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    made = [
        owner.machines.add(
            MachineEdit.model_validate({"tag": tag, "client_id": client.id, "system": system})
        )
        for tag, system in [
            ("yard-full", "windows"),
            ("yard-empty", "linux"),
            ("yard-new", "macos"),
        ]
    ]
    with context.db.write() as conn:
        for machine, free in zip(made, (30, 900), strict=False):
            for hours in (0, 30, 60):
                at = context.clock() - timedelta(hours=hours)
                reading = ReadingIn(mount="/", capacity=1000, free=free + hours // 10, at=at)
                readings.add(conn, machine.id, by_volume([reading]))
    return made


def tags(page: Page) -> list[str]:
    cells = page.get_by_test_id("machines").locator("tbody th")
    return [text.strip() for text in cells.all_inner_texts()]


def test_machines_are_filtered_and_sorted_and_the_address_keeps_it(
    page: Page, three: list[Machine]
) -> None:
    page.goto("/machines")
    expect(page.get_by_test_id("machines")).to_contain_text("yard-full")
    assert tags(page)[0] == "yard-full", "the tightest comes first"
    expect(page.get_by_test_id("machines")).to_contain_text("97 % used")
    page.get_by_role("button", name="nearly full").click()
    expect(page.get_by_text("1 machine", exact=True)).to_be_visible()
    assert "tight=yes" in page.url
    page.reload()
    expect(page.get_by_text("1 machine", exact=True)).to_be_visible()
    page.get_by_role("button", name="nearly full").click()
    page.get_by_role("button", name="linux").click()
    expect(page.get_by_test_id("machines")).to_contain_text("yard-empty")
    expect(page.get_by_test_id("machines")).not_to_contain_text("yard-full")
    assert tags(page) == ["yard-empty"]
    page.goto("/machines?sort=tag")
    expect(page.get_by_test_id("machines")).to_contain_text("yard-new")
    assert tags(page) == ["yard-empty", "yard-full", "yard-new"]
    page.get_by_label("Filter by words").fill("nothing like it")
    expect(page.get_by_text("No machine is like that")).to_be_visible()


def test_a_machine_nobody_looked_at_says_what_to_do(page: Page, three: list[Machine]) -> None:
    page.goto("/machines/yard-new")
    expect(page.get_by_text("no agent enrolled yet")).to_be_visible()
    expect(page.get_by_text("A survey changes nothing.")).to_be_visible()
    expect(page.get_by_role("button", name="Survey it")).to_be_disabled()
    expect(page.get_by_text("No round covers this machine")).to_be_visible()
    check_for_everyone(page, "a new machine")
    page.goto("/machines/nowhere")
    expect(page.get_by_text("There is no machine 'nowhere'.")).to_be_visible()


def test_the_trend_has_a_span_and_a_table(page: Page, three: list[Machine]) -> None:
    page.goto("/machines/yard-full")
    expect(page.locator("figure svg")).to_be_visible()
    page.get_by_role("button", name="7 days").click()
    expect(page.get_by_role("button", name="7 days")).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="Show as a table").click()
    rows = page.locator("figure tbody tr")
    expect(rows).to_have_count(3)
    expect(rows.first).to_contain_text("30 B")
    check_for_everyone(page, "a trend as a table")


def test_the_shops_rule_is_changed_and_a_faster_change_is_not_overwritten(
    page: Page, owner: Phylax
) -> None:
    page.goto("/rules")
    trash = page.get_by_role("row").filter(has_text="Trash").first
    expect(trash).to_contain_text("keep for 30 days")
    trash.get_by_role("button", name="Change").click()
    editor = page.get_by_test_id("rule-editor")
    expect(editor.get_by_label("Keep for days")).to_have_attribute("placeholder", "30")
    editor.get_by_label("Keep for days").fill("14")
    editor.get_by_role("button", name="Add a step").click()
    editor.get_by_label("Free share in per cent, step 1").fill("15")
    editor.get_by_label("Days, step 1").fill("20")
    expect(editor.get_by_test_id("what-if")).to_contain_text("pressure may only shorten")
    editor.get_by_label("Days, step 1").fill("7")
    expect(editor.get_by_test_id("what-if")).to_contain_text("would be removed")
    check_for_everyone(page, "a rule being changed")
    editor.get_by_role("button", name="Save").click()
    expect(trash).to_contain_text("keep for 14 days, 7 days below 15 % free")
    expect(trash).to_contain_text("the shop")
    trash.get_by_role("button", name="Change").click()
    expect(editor.get_by_label("Keep for days")).to_have_value("14")
    known = owner.rules.get(Scope.SHOP, 0, "trash")
    faster = Rule(keep_for=timedelta(days=9))
    owner.rules.put(Scope.SHOP, 0, "trash", faster, version=known.version)
    editor.get_by_label("Keep for days").fill("21")
    editor.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("changed this while you were editing")
    assert owner.rules.get(Scope.SHOP, 0, "trash").rule.keep_for == timedelta(days=9)
    editor.get_by_role("button", name="Take theirs").click()
    expect(editor.get_by_label("Keep for days")).to_have_value("9")
    editor.get_by_label("Keep for days").fill("")
    editor.get_by_role("button", name="Save").click()
    expect(trash).to_contain_text("the catalogue")


def test_saving_a_rule_that_nobody_touched_changes_nothing_of_it(page: Page, owner: Phylax) -> None:
    odd = Rule(keep_for=timedelta(hours=12, seconds=7), only_larger=100_000_001, keep_under=12_345)
    owner.rules.put(Scope.SHOP, 0, "trash", odd)
    page.goto("/rules")
    page.get_by_role("row").filter(has_text="Trash").get_by_role("button", name="Change").click()
    editor = page.get_by_test_id("rule-editor")
    editor.get_by_role("button", name="Save").click()
    expect(editor).to_have_count(0)
    assert owner.rules.get(Scope.SHOP, 0, "trash").rule == odd


def test_what_always_stays_is_added_asked_and_taken_off(
    page: Page, owner: Phylax, three: list[Machine]
) -> None:
    page.goto("/rules")
    page.get_by_role("combobox", name="What").select_option("pattern")
    page.get_by_label("What to protect").fill("!*.dcm")
    page.get_by_role("button", name="Add to the list").click()
    expect(page.get_by_role("alert")).to_contain_text("a protect list only adds")
    page.get_by_label("What to protect").fill("*.dcm")
    page.get_by_label("Why").fill("x-ray pictures")
    page.get_by_role("button", name="Add to the list").click()
    expect(page.get_by_test_id("protections")).to_contain_text("x-ray pictures")
    page.goto("/machines/yard-full")
    expect(page.get_by_test_id("protections")).to_contain_text("*.dcm")
    page.get_by_label("Is this path protected here?").fill("C:\\Archive\\a.DCM")
    page.get_by_role("button", name="Ask").click()
    expect(page.get_by_text("It stays: pattern *.dcm, for the shop.")).to_be_visible()
    page.get_by_role("button", name="Remove from the list").click()
    expect(page.get_by_test_id("protections")).to_contain_text("The protect list is empty")
    assert not owner.protections.list()


def test_all_rules_are_compared_with_a_file_before_they_change(page: Page, owner: Phylax) -> None:
    page.goto("/rules")
    file = {"name": "rules.toml", "mimeType": "application/toml"}
    wrong = {**file, "buffer": b"[shop.trash]\nkeep_for = 'soon'"}
    page.get_by_label("Compare with a file").set_input_files(wrong)  # type: ignore[arg-type]
    expect(page.get_by_role("alert")).to_contain_text("'soon' is not a span of time")
    right = {**file, "buffer": b"[shop.trash]\nkeep_for = '9 days'"}
    page.get_by_label("Compare with a file").set_input_files(right)  # type: ignore[arg-type]
    expect(page.get_by_test_id("differences")).to_contain_text("keep for 9 days")
    page.get_by_role("button", name="Make 1 change").click()
    expect(page.get_by_text("1 change made.")).to_be_visible()
    assert owner.rules.get(Scope.SHOP, 0, "trash").rule.keep_for == timedelta(days=9)


def test_records_are_searched_while_one_types(
    page: Page, owner: Phylax, three: list[Machine]
) -> None:
    owner.records.add_note(three[0].id, "The scanner's folder grows.")
    owner.records.add_note(three[1].id, "Memory module bought: the right one.")
    page.goto("/records")
    expect(page.get_by_test_id("record").locator("li")).to_have_count(5)
    page.get_by_placeholder("Search everything").fill("scanner")
    expect(page.get_by_test_id("record").locator("li")).to_have_count(1)
    expect(page.get_by_test_id("record")).to_contain_text("yard-full")
    assert "words=scanner" in page.url


def test_a_round_is_paused_and_goes_on(page: Page, owner: Phylax, three: list[Machine]) -> None:
    made = owner.rounds.add(TUESDAY.model_copy(update={"machine_ids": (three[0].id,)}))
    page.goto("/rounds?show=rounds")
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_text("paused")).to_be_visible()
    assert owner.rounds.get(made.id).paused
    page.get_by_role("button", name="Go on").click()
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    page.goto("/machines/yard-full")
    expect(page.get_by_text("every Tuesday at 18:30")).to_be_visible()


def test_a_token_is_shown_once_and_withdrawn(page: Page, owner: Phylax) -> None:
    page.goto("/shop/access")
    page.get_by_label("What the token is for").fill("till script")
    page.get_by_role("button", name="Make a token").click()
    secret = page.get_by_text("Shown only once").locator("code").inner_text()
    with Phylax(owner.url, secret) as script:
        assert script.people.me().login == "ines"
    page.reload()
    expect(page.get_by_text("till script", exact=False).first).to_be_visible()
    assert secret not in page.content()
    withdraw = page.get_by_role("button", name="Withdraw")
    row = page.get_by_role("listitem").filter(has_text="till script").filter(has=withdraw)
    row.get_by_role("button", name="Withdraw").click()
    expect(row).to_have_count(0)
    check_for_everyone(page, "access")
    page.goto("/shop")
    page.get_by_role("button", name="Verify the chain").click()
    expect(page.get_by_role("status")).to_contain_text("each fits the one before it")


def test_the_light_is_switched_and_remembered(today: Page) -> None:
    page = today

    def mode() -> str:
        return str(page.evaluate("document.documentElement.dataset.mode"))

    light = page.get_by_role("button", name="Light")
    light.click()
    assert mode() == "light"
    light.click()
    assert mode() == "dark"
    page.reload()
    expect(page.get_by_test_id("sentence")).to_be_visible()
    assert mode() == "dark"


def test_keys_are_listed_and_letters_typed_into_a_field_go_nowhere(today: Page) -> None:
    page = today
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text(
        "find a machine, client, entry, page or action"
    )
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_be_hidden()
    page.keyboard.press("/")
    page.keyboard.type("mrt")
    expect(page.get_by_role("combobox", name="Find a machine")).to_have_value("mrt")
    assert page.url.endswith("/")


def test_on_a_phone_the_rail_is_at_the_bottom_and_nothing_sticks_out(
    browser: Browser, service: Service, three: list[Machine]
) -> None:
    context = browser.new_context(
        viewport={"width": 390, "height": 780}, base_url=service.url, has_touch=True
    )
    page = context.new_page()
    page.goto("/machines/yard-full")
    page.get_by_label("Login").fill("wren")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").tap()
    expect(page.get_by_role("heading", level=1)).to_have_text("yard-full")
    rail = page.get_by_role("navigation", name="Places").bounding_box()
    assert rail is not None and rail["y"] > 600
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    page.goto("/rules")
    trash = page.get_by_role("row").filter(has_text="Trash").first
    expect(trash).to_contain_text("keep for 30 days")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    context.close()


def test_the_desk_sees_the_rules_but_no_way_to_change_them(
    browser: Browser, service: Service
) -> None:
    context = browser.new_context(base_url=service.url)
    page = context.new_page()
    page.goto("/rules")
    page.get_by_label("Login").fill("petra")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("Rules")
    expect(page.get_by_role("row").filter(has_text="Trash")).to_be_visible()
    expect(page.get_by_role("button", name="Change")).to_have_count(0)
    expect(page.get_by_role("button", name="Add to the list")).to_have_count(0)
    context.close()
