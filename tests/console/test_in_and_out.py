"""Lists taken in, everything taken out, a client forgotten: in the browser."""

from __future__ import annotations

import io
import zipfile

from playwright.sync_api import Page, expect

from phylax.client import Phylax
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit

LIST = """Kunde;Rechner;OS;Farbe;Tel
Möwenhof;moewe-1;Windows 10;rot;1
Möwenhof;moewe-1;Windows 10;rot;1
;niemand;linux;;
Skerry Ferry Office;ferry-desk;Linux;;555 0101
"""


def test_a_list_is_looked_at_corrected_and_taken_in(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    page.goto("/clients")
    page.get_by_role("link", name="Import a list").click()
    page.get_by_label("The list").set_input_files(
        {"name": "old.csv", "mimeType": "text/csv", "buffer": LIST.encode("windows-1252")}
    )
    # first the encoding is to be said
    expect(page.get_by_text("Look at the lines with letters")).to_be_visible()
    expect(page.get_by_test_id("doubtful")).to_contain_text("Möwenhof")
    expect(page.get_by_role("button", name="Import 2 lines")).to_be_disabled()
    page.get_by_label("Encoding").select_option("windows-1252")
    lines = page.get_by_test_id("lines")
    expect(lines.get_by_role("row").filter(has_text="double")).to_contain_text("line 2 is of the")
    expect(lines.get_by_role("row").filter(has_text="refused")).to_contain_text("names no client")
    page.get_by_role("button", name="1 refused").click()
    expect(lines.get_by_role("row")).to_have_count(2)
    # a column that was not understood is said to be one
    page.get_by_text("What the columns hold").click()
    page.get_by_label("What Farbe holds").select_option("note on the machine")
    page.get_by_role("button", name="all 4").click()
    expect(lines).to_contain_text("moewe-1")
    assert [each.name for each in owner.clients.list()] == ["Skerry Ferry Office"]
    page.get_by_role("button", name="Import 2 lines").click()
    expect(page.get_by_role("status").filter(has_text="Taken in: 1 line added")).to_be_visible()
    expect(page.get_by_role("button", name="There is nothing to import")).to_be_disabled()
    assert owner.machines.get("moewe-1").note == "rot"
    assert owner.clients.get(machine.client_id).phone == "555 0101"


def test_everything_is_taken_out_and_a_client_forgotten(
    page: Page, owner: Phylax, machine: Machine
) -> None:
    other = owner.clients.add(ClientEdit(name="Tidewrack Pottery"))
    owner.machines.add(MachineEdit(tag="pottery-mac", client_id=other.id, system="macos"))
    page.goto("/shop")
    for name in ("The whole shop", "The record with its chain"):
        with page.expect_download() as taken:
            page.get_by_role("link", name=name).click()
        with zipfile.ZipFile(io.BytesIO(taken.value.path().read_bytes())) as opened:
            assert "README.md" in opened.namelist()
        assert taken.value.suggested_filename.endswith(".zip")
    page.get_by_role("button", name="Change the spans").click()
    page.get_by_label("People who left, months").fill("36")
    page.get_by_role("button", name="Keep them so long").click()
    expect(page.get_by_text("Of people who left the shop: 36 months")).to_be_visible()

    page.goto(f"/clients/{other.id}")
    with page.expect_download() as taken:
        page.get_by_role("link", name="Take it out").click()
    assert taken.value.suggested_filename.startswith("tidewrack-pottery-")
    page.get_by_role("button", name="Retire Tidewrack Pottery").click()
    page.get_by_role("button", name="Retire", exact=True).click()
    page.get_by_role("button", name="Forget Tidewrack Pottery").click()
    dialogue = page.get_by_role("dialog")
    expect(dialogue).to_contain_text("Deleted for good: names")
    dialogue.get_by_label("What else names them").fill("the pottery, Clay")
    dialogue.get_by_role("button", name="Forget them now").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(f"Forgotten client {other.id}")
    expect(page.get_by_text("Forgotten today")).to_be_visible()
    expect(page.get_by_role("button", name="Save")).to_have_count(0)
    page.goto("/records?kind=erasure")
    expect(page.get_by_test_id("record")).to_contain_text("the client was forgotten")
    assert owner.records.verify().erased == 2
