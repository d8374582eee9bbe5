"""The whole path in a real browser: take in, look, agree, clean, recur, read the record."""

import json
import re
from datetime import timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from console_checks import check_for_everyone
from helpers import PASSWORD, make_file
from phylax.client import Phylax
from phylax.core.retention import Rule, Scope
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit


def test_look_agree_clean_and_read_the_record(
    today: Page, agent: None, owner: Phylax, home: Path
) -> None:
    page = today
    page.get_by_role("link", name="Machines").click()
    page.get_by_role("link", name="ferry-desk").click()
    free = page.get_by_test_id("free-/")
    expect(free).to_contain_text("free")
    before = free.inner_text()
    page.get_by_role("button", name="Survey it").click()
    ledger = page.get_by_test_id("ledger")
    expect(ledger).to_contain_text("Temporary files of each person")
    expect(page.get_by_test_id("chosen-sum")).to_have_text("114.4 MiB")

    downloads = page.get_by_role("row").filter(has_text="Download folders")
    downloads.get_by_role("button", name="Choose items").click()
    page.get_by_label("Let let-go.iso go").check()
    page.get_by_role("button", name="Use this selection").click()
    expect(page.get_by_test_id("chosen-sum")).to_have_text("123.0 MiB")
    page.reload()
    expect(page.get_by_test_id("chosen-sum")).to_have_text("123.0 MiB")

    page.get_by_role("button", name="Clean…").click()
    dialogue = page.get_by_test_id("clean-dialogue")
    expect(dialogue).to_contain_text("Temporary files of each person: 120 items, 114.4 MiB")
    expect(dialogue).to_contain_text("Download folders: the 1 item you chose, 8.6 MiB")
    page.get_by_placeholder("asked by phone").fill("asked at the desk")
    page.get_by_role("button", name="Clean now").click()
    progress = page.get_by_test_id("progress")
    expect(progress).to_contain_text(
        re.compile(r"Cleaning Temporary files of each person: \d+ items of about 121")
    )
    page.reload()
    expect(progress).to_contain_text(
        re.compile(r"Cleaning Temporary files of each person: \d+ items")
    )
    expect(page.get_by_test_id("result")).to_contain_text("done")
    expect(page.get_by_test_id("result")).to_contain_text("123.0 MiB")
    expect(page.get_by_test_id("record")).to_contain_text("Removed 121 items, 123.0 MiB")
    expect(page.locator("figcaption")).to_contain_text("1 cleaning marked")
    expect(free).not_to_have_text(before)
    assert sorted(p.name for p in (home / "Downloads").iterdir()) == ["keep.pdf"]
    (consent,) = owner.machines.consents("ferry-desk")
    assert (consent.via, consent.comment, consent.items) == ("console", "asked at the desk", 1)

    page.get_by_placeholder("Write something down").fill("Client picks it up on Friday.")
    page.get_by_role("button", name="Write down").click()
    expect(page.get_by_test_id("record")).to_contain_text("Client picks it up on Friday.")
    check_for_everyone(page, "a machine's page")


def test_a_list_is_worked_through_and_a_standing_yes_given(
    page: Page, agent: None, owner: Phylax, machine: Machine, home: Path
) -> None:
    for number in range(3):
        make_file(home / f"Projects/old/disk-{number}.iso", 5000 * (number + 1), days_old=300)
    make_file(home / "Projects/film.mkv", 4000, days_old=300)
    (home.parents[2] / "things.json").write_text(
        json.dumps([{"source": "programs", "name": "Tidebook", "size": 5000, "made": None}])
    )
    owner.rules.put(Scope.MACHINE, machine.id, "large-and-idle", Rule(only_larger=1000))
    owner.rules.put(Scope.MACHINE, machine.id, "downloads", Rule(keep_for=timedelta(days=30)))
    page.goto("/machines/ferry-desk")
    page.get_by_role("button", name="Survey it").click()
    idle = page.get_by_role("row").filter(has_text="Large files nobody uses")
    idle.get_by_role("button", name="See the list").click()
    dialogue = page.get_by_role("dialog")
    dialogue.get_by_test_id("folders").get_by_role("button", name="Projects").click()
    expect(dialogue.locator("tbody tr")).to_have_count(4)
    expect(dialogue.locator("tbody tr").first).to_contain_text("disk-2.iso")
    dialogue.get_by_test_id("folders").get_by_role("button", name="old").click()
    expect(dialogue.locator("tbody tr")).to_have_count(3)
    check_for_everyone(page, "a list to work through")
    dialogue.get_by_role("button", name="Close").click()
    programs = page.get_by_role("row").filter(has_text="Installed programs")
    programs.get_by_role("button", name="See the list").click()
    expect(dialogue).to_contain_text("not known")
    dialogue.get_by_role("button", name="Close").click()
    downloads = page.get_by_role("row").filter(has_text="Download folders")
    downloads.get_by_role("button", name="needs approval").click()
    dialogue.get_by_placeholder("agreed in the contract").fill("agreed in the contract")
    dialogue.get_by_role("button", name="Give a standing consent").click()
    expect(dialogue).to_contain_text("Standing consent by Ines Marrow")
    page.keyboard.press("Escape")
    downloads.get_by_label("Clean Download folders").check()
    expect(page.get_by_test_id("chosen-sum")).to_have_text("127.8 MiB")
    downloads.get_by_role("button", name="change for this machine").click()
    expect(dialogue.get_by_label("Keep for days")).to_have_value("30")
    expect(dialogue.get_by_test_id("what-if")).to_contain_text("13.4 MiB would be removed")
    check_for_everyone(page, "a machine's rule")
    (given,) = owner.standing_consents.list(machine.tag)
    assert (given.via, given.comment) == ("console", "agreed in the contract")


def test_a_machine_is_taken_in_and_gets_its_code(page: Page, owner: Phylax) -> None:
    page.goto("/machines/new")
    page.get_by_role("combobox", name="Whose is it?").click()
    page.get_by_role("option", name="A new client…").click()
    page.get_by_label("Name of the new client").fill("Tidewrack Pottery")
    page.get_by_label("Tag on its label").fill("pottery-mac")
    page.get_by_label("System").select_option("macos")
    page.reload()
    expect(page.get_by_label("Tag on its label")).to_have_value("pottery-mac")
    check_for_everyone(page, "taking a machine in")
    page.get_by_role("button", name="Add machine").click()
    expect(page.locator("main")).to_contain_text("phylax agent enrol")
    assert owner.machines.get("pottery-mac").client_name == "Tidewrack Pottery"


def test_a_round_is_made_with_its_next_dates_shown(
    page: Page, machine: Machine, owner: Phylax
) -> None:
    page.goto(f"/rounds/new?machine={machine.tag}")
    page.get_by_label("Name", exact=True).fill("Light weekly")
    often = page.get_by_label("In plain words, or a recurrence rule")
    often.fill("every Friday")
    expect(page.get_by_test_id("how-often")).to_have_text("every Friday at 18:30")
    expect(page.get_by_test_id("next-dates").locator("li")).to_have_count(5)
    expect(page.get_by_test_id("next-dates")).to_contain_text(
        re.compile(r"Friday \d+ \w+ 20\d\d at 18:30")
    )
    often.fill("FREQ=SOMETIMES")
    expect(page.get_by_role("alert")).to_contain_text("FREQ must be one of")
    often.fill("now and then")
    expect(page.get_by_role("alert")).to_contain_text("say it as in 'every Tuesday'")
    often.fill("every Friday")
    check_for_everyone(page, "making a round")
    page.get_by_role("button", name="Make the round").click()
    page.wait_for_url("**/rounds")
    expect(page.get_by_test_id("agenda")).to_contain_text("Light weekly")
    (made,) = owner.rounds.list()
    assert made.plan.machine_ids == (machine.id,) and made.how_often == "every Friday at 18:30"


def test_every_place_is_a_key_away_and_fit_for_everyone(today: Page, machine: Machine) -> None:
    page = today
    for key, heading in [
        ("m", "Machines"), ("r", "Rounds"), ("u", "Rules"), ("e", "Records"), ("s", "Quayside"),
    ]:  # fmt: skip
        page.keyboard.press(key)
        expect(page.get_by_role("heading", level=1)).to_have_text(heading)
        check_for_everyone(page, heading)
    page.keyboard.press("t")
    expect(page.get_by_test_id("sentence")).to_contain_text("Nothing needs attention.")
    check_for_everyone(page, "Today")
    page.keyboard.press("/")
    page.keyboard.type("ferry")
    expect(page.get_by_role("option", name="Machines with “ferry”")).to_be_visible()
    check_for_everyone(page, "finding")
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("hits-machine")).to_contain_text("ferry-desk")
    assert "words=ferry" in page.url


def test_a_wrong_password_says_so_and_keeps_what_was_typed(today: Page) -> None:
    page = today
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Login").fill("ines")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Login or password is wrong")
    expect(page.get_by_label("Login")).to_have_value("ines")
    check_for_everyone(page, "signing in")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("sentence")).to_be_visible()


def test_when_the_line_drops_it_says_so_and_catches_up(page: Page, owner: Phylax) -> None:
    page.route("**/api/v2/events", lambda route: route.abort())
    page.goto("/rounds")
    dropped = page.get_by_text("Connection lost")
    expect(dropped).to_be_visible()
    page.unroute("**/api/v2/events")
    expect(dropped).to_be_hidden()
    page.goto("/machines")
    expect(page.get_by_text("No machines yet")).to_be_visible()
    client = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    owner.machines.add(MachineEdit(tag="yard", client_id=client.id, system="linux"))
    expect(page.get_by_test_id("machines")).to_contain_text("yard")
