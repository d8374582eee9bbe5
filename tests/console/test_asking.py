"""How pages ask: nothing while nothing changes, never shown what was overtaken, and again after a
failure."""

from __future__ import annotations

import re
from datetime import timedelta

import pytest
from playwright.sync_api import Browser, Page, Request, Route, expect

from conftest import Service
from helpers import wait_until
from phylax.client import Phylax
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep
from phylax.core.scheduling.rounds import RoundEdit
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.service.context.context import Context
from phylax.store.trends import readings

IDLE = 20_000
PAGES = (
    "/", "/machines", "/machines/ferry-desk", "/machines/new", "/installed", "/rounds", "/rounds/new", "/rules",
    "/records", "/shop/notices", "/shop/changes", "/trends", "/routines", "/routines/1",
)  # fmt: skip


@pytest.fixture
def ferry(owner: Phylax, context: Context) -> Machine:
    client = owner.clients.add(ClientEdit(name="Skerry Ferry Office"))
    machine = owner.machines.add(MachineEdit(tag="ferry-desk", client_id=client.id, system="linux"))
    other = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    owner.machines.add(MachineEdit(tag="yard", client_id=other.id, system="linux"))
    with context.db.write() as conn:
        reading = ReadingIn(
            mount="/", capacity=1000, free=300, at=context.clock() - timedelta(hours=1)
        )
        readings.add(conn, machine.id, by_volume([reading]))
    for number in range(20):
        owner.records.add_note(machine.tag, f"note {number}")
    return machine


def test_an_idle_page_asks_nothing(
    browser: Browser, page: Page, service: Service, ferry: Machine
) -> None:
    state = page.context.storage_state()
    asked: list[tuple[str, str]] = []
    contexts = []
    for path in PAGES:
        # each with connections of its own: a browser has six to one host
        own = browser.new_context(base_url=service.url, storage_state=state)
        contexts.append(own)
        tab = own.new_page()
        tab.goto(path)
        expect(tab.locator("h1").first).to_be_visible()
        expect(tab.get_by_text("Asking the service…"), path).to_have_count(0)
        tab.wait_for_load_state("load")
        tab.wait_for_timeout(1000)

        def note(request: Request, path: str = path) -> None:
            if "/api/" in request.url:
                asked.append((path, request.url))

        tab.on("request", note)
    page.wait_for_timeout(IDLE)
    for own in contexts:
        own.close()
    assert asked == []


@pytest.mark.parametrize(
    ("path", "late", "go_on", "shown"),
    [
        ("/machines?words=yard", r"/v2/machines/numbers\?.*words=yard", ("Filter by words", "ferry"), "ferry-desk"),
        ("/records?words=nowhere", r"/v2/records\?.*words=nowhere",
         ("Search everything that was done or written", "note 7"), "note 7"),
    ],
    ids=["machines", "records"],
)  # fmt: skip
def test_an_answer_that_was_overtaken_is_never_shown(
    page: Page, ferry: Machine, path: str, late: str, go_on: tuple[str, str], shown: str
) -> None:
    held: list[Route] = []
    page.route(re.compile(late), lambda route: held.append(route))
    page.goto(path)
    page.wait_for_timeout(300)
    label, words = go_on
    page.get_by_label(label, exact=True).fill(words)
    expect(page.locator("main")).to_contain_text(shown)
    assert held, "the first question was asked"
    for route in held:
        route.continue_()
    page.wait_for_timeout(500)
    expect(page.locator("main")).to_contain_text(shown)
    assert page.locator("main").get_by_text("yard", exact=True).count() == 0


@pytest.fixture
def yard(owner: Phylax, ferry: Machine) -> Machine:
    owner.records.add_note("yard", "a new battery")
    return owner.machines.get("yard")


def _round(owner: Phylax, name: str, machine: Machine) -> int:
    edit = RoundEdit(
        name=name, routine_id=1, recurrence="every Tuesday", at="20:00",
        machine_ids=(machine.id,), starts_on="2026-03-02",
    )  # fmt: skip
    return owner.rounds.add(edit).id


def _routine(owner: Phylax, name: str) -> int:
    steps = (RoutineStep(kind="by hand", title=f"{name} it"),)
    return owner.routines.add(RoutineEdit(name=name, note="", steps=steps)).id


@pytest.mark.parametrize("kind", ["machine", "round", "routine"])
def test_the_page_before_never_shows_on_the_next(
    page: Page, owner: Phylax, ferry: Machine, yard: Machine, kind: str
) -> None:
    """The answers about the first come after the second is open."""
    first, second, own_words = {
        "machine": lambda: ("machines/ferry-desk", "machines/yard", ("note 7", "a new battery")),
        "round": lambda: (
            f"rounds/{_round(owner, 'Ferry nights', ferry)}",
            f"rounds/{_round(owner, 'Yard nights', yard)}",
            ("Ferry nights", "Yard nights"),
        ),
        "routine": lambda: (
            f"routines/{_routine(owner, 'Dust')}",
            f"routines/{_routine(owner, 'Polish')}",
            ("Dust it", "Polish it"),
        ),
    }[kind]()
    held: list[Route] = []
    about_first = re.compile(rf"/v2/({first}(?!\d)|(records|runs)\?machine=ferry)")
    page.route(about_first, lambda route: held.append(route))
    page.goto(f"/{first}")
    page.locator("main").wait_for()
    while not held:
        page.wait_for_timeout(100)
    # the address changes as a link within the console changes it: nothing is loaded anew
    page.evaluate(
        """to => { const a = document.createElement('a'); a.href = to; document.body.append(a);
        a.click(); a.remove(); }""",
        f"/{second}",
    )
    main = page.locator("main")
    values = "main => [main.textContent, ...[...main.querySelectorAll('input')].map(i => i.value)]"
    wait_until(lambda: own_words[1] in " ".join(main.evaluate(values)), "the words to be shown")
    for route in held:
        route.continue_()
    page.wait_for_timeout(700)
    shown = " ".join(main.evaluate(values))
    assert own_words[1] in shown
    assert own_words[0] not in shown


def test_dates_of_a_round_are_of_what_is_typed_last(page: Page, ferry: Machine) -> None:
    held: list[Route] = []
    page.goto("/rounds/new?machine=ferry-desk")
    dates = page.get_by_test_id("next-dates")
    expect(dates.get_by_role("listitem")).to_have_count(5)
    page.route(
        re.compile("/v2/rounds/preview"),
        lambda route: route.continue_() if held else held.append(route),
    )
    page.get_by_label("It may start from").fill("05:10")
    while not held:
        page.wait_for_timeout(100)
    page.get_by_label("It may start from").fill("06:20")
    expect(dates.get_by_role("listitem").first).to_contain_text("06:20")
    for route in held:
        route.continue_()
    page.wait_for_timeout(700)
    expect(dates.get_by_role("listitem").first).to_contain_text("06:20")


def _far_parts(browser: Browser, page: Page, service: Service) -> Page:
    """A tab of a browser that says what is in sight, with a machine's page open."""
    own = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=service.url,
        storage_state=page.context.storage_state(),
    )  # fmt: skip
    tab = own.new_page()
    tab.set_default_timeout(60_000)
    tab.goto("/machines/ferry-desk")
    expect(tab.get_by_role("heading", name="Record", exact=True)).to_be_visible()
    tab.wait_for_timeout(2000)
    expect(tab.get_by_text("note 7", exact=True)).to_have_count(0)
    return tab


@pytest.mark.parametrize("how", ["scrolls", "presses a key", "moves the mouse", "prints"])
def test_far_parts_are_drawn_when_somebody_is_there(
    browser: Browser, page: Page, service: Service, ferry: Machine, how: str
) -> None:
    tab = _far_parts(browser, page, service)
    if how == "scrolls":
        tab.evaluate("scrollTo(0, 300)")
    elif how == "presses a key":
        tab.keyboard.press("Control+f")
    elif how == "moves the mouse":
        tab.mouse.move(300, 300)
    else:
        tab.evaluate("dispatchEvent(new Event('beforeprint'))")
        # before the paper is laid out: nothing is left to wait for
        assert tab.locator("main").get_by_text("note 7", exact=True).count() == 1
    expect(tab.get_by_text("note 7", exact=True)).to_be_visible()
    tab.context.close()


@pytest.mark.parametrize("path", ["/", "/machines", "/machines/ferry-desk", "/records", "/rules"])
def test_what_failed_is_said_and_can_be_tried_again(page: Page, ferry: Machine, path: str) -> None:
    down = re.compile(r"/api/v2/(today|machines|records|rules)")
    page.route(down, lambda route: route.abort())
    page.goto(path)
    failed = page.get_by_text("The service does not answer. Is the service running?").first
    expect(failed).to_be_visible()
    page.unroute(down)
    page.get_by_role("button", name="Try again").first.click()
    expect(failed).to_be_hidden()
    expect(page.locator("h1").first).to_be_visible()


def test_what_is_drawn_late_shows_what_came_before_it(page: Page, ferry: Machine) -> None:
    """Parts of a page wait until it is free; by then their answers, and their refusals, are there."""
    page.add_init_script("window.requestIdleCallback = (work) => setTimeout(work, 1500)")
    page.goto("/machines/ferry-desk")
    expect(page.get_by_text("This machine has not been surveyed yet.")).to_be_visible()
    expect(page.get_by_text("A survey reads startup programs")).to_be_visible()
    expect(page.get_by_text("No round covers this machine.")).to_be_visible()
    expect(page.locator("figure svg")).to_be_visible()
    expect(page.get_by_text("Asking the service…")).to_have_count(0)


def test_older_entries_stay_when_something_new_is_written(
    page: Page, owner: Phylax, ferry: Machine
) -> None:
    page.goto("/machines/ferry-desk")
    page.get_by_role("button", name="Show older").click()
    expect(page.get_by_text("note 1", exact=True)).to_be_visible()
    owner.records.add_note(ferry.tag, "written meanwhile")
    expect(page.get_by_text("written meanwhile")).to_be_visible()
    expect(page.get_by_text("note 1", exact=True)).to_be_visible()


def test_a_change_of_one_machine_asks_for_its_row_alone(
    page: Page, owner: Phylax, context: Context, ferry: Machine
) -> None:
    page.goto("/machines")
    expect(page.get_by_test_id("machines")).to_contain_text("70 % used")
    page.wait_for_timeout(1000)
    asked: list[str] = []
    page.on("request", lambda r: asked.append(r.url) if "/api/v2/machines" in r.url else None)
    edit = MachineEdit(
        tag="ferry-desk", client_id=ferry.client_id, system="linux", note="", threshold_percent=60
    )
    owner.machines.change(ferry, edit)
    expect(page.get_by_test_id("machines")).to_contain_text("nearly full")
    rows = [url for url in asked if "free-lines" not in url and "numbers" not in url]
    assert [url.rpartition("/")[2] for url in rows] == [str(ferry.id)]
