"""A visit at the desk: a part is waited for, a note sealed and read, the machine ready."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from console_checks import check_for_everyone
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.desk.visits import NewVisit


def test_a_part_a_sealed_note_a_call_and_ready(
    page: Page, owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    visit = owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It clicks"))
    page.goto(f"/visits/{visit.id}")
    parts = page.get_by_test_id("parts")
    expect(parts).to_contain_text("None is on order.")
    page.get_by_label("Part", exact=True).fill("SSD, 1 TB")
    page.get_by_label("From whom").fill("Kittiwake Parts")
    page.get_by_role("button", name="It is ordered").click()
    expect(parts).to_contain_text("SSD, 1 TB, from Kittiwake Parts")

    page.get_by_label("What it is").fill("Bram's sign-in")
    page.get_by_label("What the client left").fill("under the keyboard")
    page.get_by_role("button", name="Seal it").click()
    notes = page.get_by_test_id("sealed-notes")
    expect(notes).to_contain_text("Bram's sign-in")
    expect(page.get_by_text("under the keyboard")).to_have_count(0)
    notes.get_by_role("button", name="Read it").click()
    expect(notes).to_contain_text("under the keyboard")
    expect(notes).to_contain_text("Read 1 time")
    notes.get_by_role("button", name="Hide it").click()
    expect(page.get_by_text("under the keyboard")).to_have_count(0)

    page.get_by_label("Write something down").fill("Agreed to 90 by phone.")
    page.get_by_label("said with the client").check()
    (tmp_path / "slip.pdf").write_bytes(b"%PDF-1.7\n[[[[")
    (tmp_path / "broken.png").write_bytes(b"no picture")
    page.get_by_label("Pictures or PDFs").set_input_files([tmp_path / "broken.png"])
    page.get_by_role("button", name="Write down").click()
    expect(page.get_by_role("alert")).to_contain_text("broken.png: This cannot be read")
    page.get_by_label("Pictures or PDFs").set_input_files([tmp_path / "slip.pdf"])
    page.get_by_role("button", name="Write down").click()
    expect(page.get_by_test_id("record")).to_contain_text("call with the client, Ines Marrow")
    expect(page.get_by_test_id("record").get_by_role("link", name="slip.pdf")).to_be_visible()
    check_for_everyone(page, "visit at the desk")

    parts.get_by_role("button", name="Arrived").click()
    expect(parts).to_contain_text("arrived")
    page.get_by_role("button", name="Ready: we tell them ourselves").click()
    expect(page.get_by_test_id("ready")).to_contain_text("Ready to collect since")
    page.get_by_role("button", name="Hand over, mended").click()
    expect(page.get_by_test_id("ended")).to_be_visible()
    expect(notes).to_contain_text("destroyed")
    expect(notes.get_by_role("button", name="Read it")).to_have_count(0)
    kinds = {entry.kind for entry in owner.records.list(visit=visit.id)}
    assert {"visit", "call"} <= kinds
