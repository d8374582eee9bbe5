"""A day at the desk: a machine is taken in by keyboard, moved on, and handed over."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from console_checks import check_for_everyone
from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, MachineEdit
from phylax.core.desk.visits import NewVisit


def tab_to(page: Page, label: str) -> None:
    """As somebody does who has no mouse."""
    field = page.get_by_label(label)
    for _ in range(30):
        page.keyboard.press("Tab")
        if field.evaluate("field => field === document.activeElement"):
            return
    raise AssertionError(f"{label} is not reached")


def test_a_machine_is_taken_in_by_keyboard_alone_and_handed_over(page: Page, owner: Phylax) -> None:
    client = owner.clients.add(ClientEdit(name="Bram Oakes, at home", phone="555 0187"))
    machine = owner.machines.add(
        MachineEdit(tag="oakes-laptop", client_id=client.id, system="windows")
    )
    page.goto("/visits")
    expect(page.get_by_text("No visit is open.")).to_be_visible()
    page.goto("/visits/new")
    expect(page.get_by_label("Client's name")).to_be_focused()
    page.keyboard.type("0187")
    # the only one that fits is chosen
    expect(page.get_by_role("radio", name="oakes-laptop")).to_be_checked()
    for label, words in (
        ("What is wrong", "It is full, and the fan howls"),
        ("Accessories", "charger, bag"),
        ("Call before spending more", "60"),
    ):
        tab_to(page, label)
        page.keyboard.type(words)
    page.keyboard.press("Enter")
    slip = page.get_by_test_id("slip")
    expect(slip).to_contain_text("It is full, and the fan howls")
    expect(slip.get_by_text("We call you before spending more than 60.")).to_have_count(2)
    expect(slip.get_by_role("img")).to_have_count(2)
    page.get_by_role("link", name="Go to the visit").click()
    expect(page.get_by_test_id("turn")).to_contain_text("Waiting for us")
    page.get_by_label("Who acts next").select_option("client")
    page.get_by_label("What to do").fill("say yes to a new fan")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_test_id("turn")).to_contain_text("Waiting for the client: say yes to a new fan")
    page.get_by_label("Write something down").fill("Called: he agrees to 40.")
    page.get_by_role("button", name="Write down").click()
    expect(page.get_by_test_id("record")).to_contain_text("he agrees to 40")
    page.goto("/visits")
    expect(page.get_by_role("heading", name="Waiting for the client")).to_be_visible()
    page.goto("/machines/oakes-laptop")
    page.get_by_test_id("visit").get_by_role("link").click()
    page.get_by_label("What the client is told").fill("Dust in the fan")
    page.get_by_role("button", name="Hand over, mended").click()
    expect(page.get_by_test_id("ended")).to_contain_text("mended")
    (visit,) = owner.visits.list(machine=machine.tag)
    assert visit.outcome == "mended" and visit.approval_limit == 60
    assert [e.text for e in owner.records.list(visit=visit.id)][1] == "Called: he agrees to 40."


def test_visits_are_for_everyone(page: Page, owner: Phylax) -> None:
    client = owner.clients.add(ClientEdit(name="Skerry Ferry Office"))
    new = MachineEdit(tag="ferry-desk", client_id=client.id, system="linux")
    machine = owner.machines.add(new)
    owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="<b>It</b> *howls* \N{PILE OF POO}"))
    for path, words in (
        ("/visits", "1 open visit"), ("/visits/1", "What was done meanwhile"),
        ("/visits/1/slip", "Claim slip"), ("/visits/new", "Check in a machine"),
        ("/clients", "Clients"), (f"/clients/{client.id}", "What was agreed"),
        (f"/machines/labels?of={machine.id}", "Labels"),
    ):  # fmt: skip
        page.goto(path)
        expect(page.get_by_text(words).first).to_be_visible()
        check_for_everyone(page, path)
    page.goto("/visits/1")
    expect(page.get_by_text("<b>It</b> *howls*").first).to_be_visible()


HOSTILE = (
    '<img src=x onerror="document.title=1">#panic("x") *b* \u202eevil\u202c \U0001f600 漢字 {{x}} '
)


def test_hostile_text_on_slip_and_label_is_text(page: Page, owner: Phylax) -> None:
    client = owner.clients.add(ClientEdit(name=f"{HOSTILE[:60]} & sons", contact=HOSTILE))
    machine = owner.machines.add(
        MachineEdit(tag="odd", client_id=client.id, system="linux", make=HOSTILE, model="<b>x</b>")
    )
    said = (HOSTILE + "\n" * 1900)[:3900]
    visit = owner.visits.open(NewVisit(machine_id=machine.id, reported_problem=said, condition=HOSTILE * 9))
    page.goto(f"/visits/{visit.id}/slip")
    slip = page.get_by_test_id("slip")
    expect(slip.get_by_text('#panic("x") *b*').first).to_be_visible()
    expect(slip.locator("img")).to_have_count(2)
    assert page.title().startswith("Claim slip")
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    page.goto(f"/machines/labels?of={machine.id}")
    label = page.get_by_test_id("label")
    expect(label).to_contain_text("<b>x</b>")
    expect(label.locator("img")).to_have_count(1)
    box = label.bounding_box()
    assert box is not None and box["height"] < 150, "it stays a label"
