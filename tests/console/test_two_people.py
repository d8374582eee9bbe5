"""Two people at once, what somebody typed, and what a role may not do."""

from __future__ import annotations

from datetime import timedelta

import pytest
from playwright.sync_api import Browser, Page, expect

from conftest import Service
from console_checks import check_for_everyone, write
from helpers import PASSWORD
from phylax.client import Phylax
from phylax.core.attention.notices import MailServerEdit
from phylax.core.retention import Rule, Scope
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep
from phylax.core.scheduling.rounds import RoundEdit
from phylax.core.clients.shop import Machine, MachineEdit
from phylax.core.ground.values import edit_of
from phylax.core.desk.visits import NextTurn, NewVisit, Turn


@pytest.fixture
def weekly(owner: Phylax, machine: Machine) -> int:
    edit = RoundEdit(
        name="Light nights", routine_id=1, recurrence="every Tuesday", at="20:00",
        machine_ids=(machine.id,), starts_on="2026-03-02",
    )  # fmt: skip
    return owner.rounds.add(edit).id


def _open_round(page: Page, number: int) -> None:
    page.goto(f"/rounds/new?round={number}")
    expect(page.get_by_label("Name", exact=True)).to_have_value("Light nights")
    expect(page.get_by_test_id("next-dates").get_by_role("listitem")).to_have_count(5)


def _changed_by_wren(service: Service, number: int) -> None:
    with service.as_("wren") as wren:
        current = wren.rounds.get(number)
        wren.rounds.change(current, edit_of(RoundEdit, current.plan, name="Wren's nights"))


@pytest.mark.parametrize("mine", [True, False], ids=["save mine", "take theirs"])
def test_a_round_changed_by_two_shows_both_versions(
    page: Page, owner: Phylax, service: Service, weekly: int, mine: bool
) -> None:
    _open_round(page, weekly)
    page.get_by_label("Name", exact=True).fill("Quiet nights")
    _changed_by_wren(service, weekly)
    page.get_by_role("button", name="Save the round").click()
    conflict = page.get_by_test_id("conflict")
    expect(conflict).to_contain_text("Wren Halloran changed this while you were editing")
    row = conflict.get_by_role("row").filter(has_text="name")
    expect(row).to_contain_text("Quiet nights")
    expect(row).to_contain_text("Wren's nights")
    check_for_everyone(page, "two versions of a round")
    assert owner.rounds.get(weekly).name == "Wren's nights", "nothing is overwritten unseen"
    if mine:
        conflict.get_by_role("button", name="Save mine").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Quiet nights")
        assert owner.rounds.get(weekly).name == "Quiet nights"
    else:
        conflict.get_by_role("button", name="Take theirs").click()
        expect(page.get_by_label("Name", exact=True)).to_have_value("Wren's nights")
        page.get_by_role("button", name="Save the round").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Wren's nights")


def test_a_rule_changed_by_two_shows_both_versions(page: Page, owner: Phylax) -> None:
    page.goto("/rules")
    row = page.get_by_role("row").filter(has_text="Trash")
    row.get_by_role("button", name="Change").click()
    days = page.get_by_label("Keep for days; older goes")
    write(days, "12")
    page.reload()
    row.get_by_role("button", name="Change").click()
    expect(days).to_have_value("12")
    owner.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=timedelta(days=40)))
    page.reload()
    row.get_by_role("button", name="Change").click()
    expect(days).to_have_value("12")
    page.get_by_role("button", name="Save the rule").click()
    conflict = page.get_by_test_id("conflict")
    expect(conflict.get_by_role("row").filter(has_text="keep for")).to_contain_text("12 days")
    expect(conflict.get_by_role("row").filter(has_text="keep for")).to_contain_text("40 days")
    conflict.get_by_role("button", name="Save mine").click()
    expect(conflict).to_have_count(0)
    assert owner.rules.get(Scope.SHOP, 0, "trash").rule.keep_for == timedelta(days=12)


@pytest.mark.parametrize("mine", [True, False], ids=["save mine", "take theirs"])
def test_a_threshold_changed_by_two_shows_both_versions(
    page: Page, owner: Phylax, machine: Machine, mine: bool
) -> None:
    # news of changes do not come through: what is shown is as it was when it was opened
    page.route("**/api/v2/events", lambda route: route.abort())
    page.goto(f"/machines/{machine.tag}")
    box = page.get_by_test_id("threshold")
    box.locator("summary").click()
    box.get_by_label("Percent used").fill("70")
    current = owner.machines.get(machine.tag)
    owner.machines.change(current, edit_of(MachineEdit, current, threshold_percent=60))
    box.get_by_role("button", name="Set", exact=True).click()
    conflict = box.get_by_test_id("conflict")
    row = conflict.get_by_role("row").filter(has_text="nearly full above")
    expect(row).to_contain_text("70 %")
    expect(row).to_contain_text("60 %")
    check_for_everyone(page, "two thresholds")
    assert owner.machines.get(machine.tag).threshold_percent == 60
    conflict.get_by_role("button", name="Save mine" if mine else "Take theirs").click()
    expect(conflict).to_have_count(0)
    expect(box.locator("summary")).to_contain_text("70 %" if mine else "60 %")
    assert owner.machines.get(machine.tag).threshold_percent == (70 if mine else 60)


def test_another_change_of_the_machine_is_no_conflict_of_its_threshold(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.route("**/api/v2/events", lambda route: route.abort())
    page.goto(f"/machines/{machine.tag}")
    box = page.get_by_test_id("threshold")
    box.locator("summary").click()
    box.get_by_label("Percent used").fill("70")
    current = owner.machines.get(machine.tag)
    owner.machines.change(current, edit_of(MachineEdit, current, note="a new battery"))
    box.get_by_role("button", name="Set", exact=True).click()
    expect(box.locator("summary")).to_contain_text("70 %")
    after = owner.machines.get(machine.tag)
    assert (after.threshold_percent, after.note) == (70, "a new battery")


def test_a_routine_changed_by_two_shows_both_versions(page: Page, owner: Phylax) -> None:
    steps = (RoutineStep(kind="by hand", title="Dust it"),)
    made = owner.routines.add(RoutineEdit(name="Dusting", note="", steps=steps))
    page.goto(f"/routines/{made.id}")
    name = page.get_by_label("Name", exact=True)
    expect(name).to_have_value("Dusting")
    name.fill("Dusting, mine")
    owner.routines.change(made, RoutineEdit(name="Dusting, theirs", note="", steps=steps))
    page.wait_for_timeout(1000)
    expect(name).to_have_value("Dusting, mine")
    # also over a reload: what was typed is about the earlier version
    page.reload()
    expect(name).to_have_value("Dusting, mine")
    page.get_by_role("button", name="Save a new version").click()
    conflict = page.get_by_test_id("conflict")
    expect(conflict).to_contain_text("Dusting, theirs")
    conflict.get_by_role("button", name="Take theirs").click()
    expect(name).to_have_value("Dusting, theirs")
    name.fill("Dusting, mine")
    owner.routines.change(
        owner.routines.get(made.id), RoutineEdit(name="Dusting, again", note="", steps=steps)
    )
    page.get_by_role("button", name="Save a new version").click()
    expect(conflict).to_contain_text("Dusting, again")
    conflict.get_by_role("button", name="Save mine").click()
    expect(page.get_by_text("Saved as version")).to_be_visible()
    assert owner.routines.get(made.id).name == "Dusting, mine"


def test_what_was_typed_survives_a_reload_and_is_not_shown_to_another(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.goto(f"/machines/{machine.tag}")
    note = page.get_by_label("Write something down")
    write(note, "fan is loud")
    page.goto("/rounds/new")
    expect(page.get_by_role("combobox", name="Routine")).not_to_have_value("")
    write(page.get_by_label("Name", exact=True), "Half a round")
    page.reload()
    expect(page.get_by_label("Name", exact=True)).to_have_value("Half a round")
    page.get_by_role("button", name="Start over").click()
    expect(page.get_by_label("Name", exact=True)).to_have_value("")
    page.goto(f"/machines/{machine.tag}")
    expect(note).to_have_value("fan is loud")
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Login").fill("wren")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("sentence")).to_be_visible()
    page.goto(f"/machines/{machine.tag}")
    expect(note).to_have_value("")


DESK_PAGES = {
    "/machines/ferry-desk": ["Survey it", "Run a routine", "Make a round for it", "Clean…"],
    "/rounds": ["Make a round", "Pause"],
    "/routines": ["Copy to change it"],
    "/rules": ["Change"],
    "/shop/days": ["Close"],
    "/shop/calendars": ["Make an address"],
}


def test_the_desk_is_offered_nothing_that_would_be_refused(
    browser: Browser, service: Service, owner: Phylax, machine: Machine, weekly: int
) -> None:
    def offered(login: str) -> dict[str, set[str]]:
        own = browser.new_context(base_url=service.url)
        answer = own.request.post(
            "/api/v2/sign-in",
            data={"login": login, "password": PASSWORD},
            headers={"Origin": service.url},
        )
        assert answer.ok
        tab = own.new_page()
        names = {}
        for path, wanted in DESK_PAGES.items():
            tab.goto(path)
            expect(tab.locator("h1").first).to_be_visible()
            expect(tab.get_by_text("Asking the service…")).to_have_count(0)
            tab.wait_for_timeout(500)
            controls = tab.locator("main").locator("button, a.act")
            shown = {text.strip() for text in controls.all_inner_texts()}
            names[path] = shown & set(wanted)
        own.close()
        return names

    assert set().union(*offered("petra").values()) == set()
    assert all(offered("ines").values()), "and the owner is offered some of each"


@pytest.mark.parametrize(
    ("path", "label"),
    [
        ("/rules", "What to protect"),
        ("/shop/days", "Name"),
        ("/shop/calendars", "For what"),
        ("/shop/access", "What the token is for"),
        ("/shop/notices", "Sender"),
    ],
)
def test_what_was_typed_survives_a_reload(
    page: Page, machine: Machine, path: str, label: str
) -> None:
    page.goto(path)
    field = page.get_by_label(label, exact=True)
    write(field, "half@typed")
    page.reload()
    expect(field).to_have_value("half@typed")


def test_two_people_set_the_mail_server(page: Page, owner: Phylax) -> None:
    first = MailServerEdit(
        host="mail.quayside.example", port=25, security="tls", sender="desk@quayside.example"
    )
    known = owner.notices.set_mail_server(first, None)
    page.goto("/shop/notices")
    server = page.get_by_label("Server", exact=True)
    expect(server).to_have_value("mail.quayside.example")
    owner.notices.set_mail_server(first.model_copy(update={"port": 26}), known)
    write(server, "post.quayside.example")
    form = page.locator("form").filter(has=server)
    form.get_by_role("button", name="Save").click()
    conflict = page.get_by_test_id("conflict")
    expect(conflict).to_contain_text("mail.quayside.example:26")
    expect(conflict).to_contain_text("post.quayside.example:25")
    conflict.get_by_role("button", name="Take theirs").click()
    expect(page.get_by_label("Port", exact=True)).to_have_value("26")
    write(page.get_by_label("Port", exact=True), "27")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    expect(page.get_by_label("Port", exact=True)).to_have_value("27")
    page.reload()
    expect(page.get_by_label("Port", exact=True)).to_have_value("27")


def test_what_is_typed_stays_about_the_version_it_began_with(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    """The page hears of the other's change at once, while this one is typed; and a reload between
    the two forgets neither what was typed nor what it is about."""
    page.goto(f"/machines/{machine.tag}#itself")
    note = page.get_by_label("Notes")
    note.scroll_into_view_if_needed()
    write(note, "Fan replaced")
    current = owner.machines.get(machine.tag)
    edit = edit_of(MachineEdit, current, note="Do not open", location="the counter")
    owner.machines.change(current, edit)
    # the page has heard: what it only shows is new, what is typed is not
    expect(page.get_by_label("Where it stands")).to_have_value("")
    page.reload()
    note.scroll_into_view_if_needed()
    expect(note).to_have_value("Fan replaced")
    page.get_by_role("button", name="Save").click()
    conflict = page.get_by_test_id("conflict")
    row = conflict.get_by_role("row").filter(has_text="note")
    expect(row).to_contain_text("Fan replaced")
    expect(row).to_contain_text("Do not open")
    assert owner.machines.get(machine.tag).note == "Do not open"
    conflict.get_by_role("button", name="Save mine").click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()
    expect(conflict).to_have_count(0)
    saved = owner.machines.get(machine.tag)
    assert (saved.note, saved.location) == ("Fan replaced", "the counter")
    expect(page.get_by_label("Where it stands")).to_have_value("the counter")


def test_a_form_that_nobody_types_in_follows_what_others_save(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.goto(f"/machines/{machine.tag}#itself")
    note = page.get_by_label("Notes")
    note.scroll_into_view_if_needed()
    expect(note).to_have_value("")
    current = owner.machines.get(machine.tag)
    owner.machines.change(current, edit_of(MachineEdit, current, note="Do not open"))
    expect(note).to_have_value("Do not open")


def test_a_visit_moved_by_two_shows_both(page: Page, owner: Phylax, machine: Machine) -> None:
    visit = owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It is slow"))
    page.goto(f"/visits/{visit.id}")
    expect(page.get_by_label("Who acts next")).to_have_value("us")
    write(page.get_by_label("What to do"), "order a disk")
    other = NextTurn(turn=Turn.CLIENT, todo="say yes to the disk", follow_up_on="2026-03-09")
    owner.visits.set_turn(visit, other)
    expect(page.get_by_test_id("turn")).to_contain_text("say yes to the disk")
    page.get_by_role("button", name="Save", exact=True).click()
    conflict = page.get_by_test_id("conflict")
    row = conflict.get_by_role("row").filter(has_text="todo")
    expect(row).to_contain_text("order a disk")
    expect(row).to_contain_text("say yes to the disk")
    conflict.get_by_role("button", name="Save mine").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    expect(conflict).to_have_count(0)
    moved = owner.visits.get(visit.id)
    assert (moved.turn, moved.todo, str(moved.follow_up_on)) == (
        Turn.CLIENT, "order a disk", "2026-03-09",
    )  # fmt: skip


def test_only_the_shelf_is_changed_and_the_move_stays(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    visit = owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It is slow"))
    owner.visits.set_turn(visit, NextTurn(turn=Turn.CLIENT, todo="say yes", place="shelf", shelf="A1"))
    page.goto(f"/visits/{visit.id}")
    expect(page.get_by_label("What to do")).to_have_value("say yes")
    write(page.get_by_role("textbox", name="Shelf"), "B2")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_test_id("turn")).to_contain_text("on shelf B2")
    moved = owner.visits.get(visit.id)
    assert (moved.turn, moved.todo, moved.shelf) == (Turn.CLIENT, "say yes", "B2")
