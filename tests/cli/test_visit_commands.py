"""`phylax visit`: a machine is taken in, moved on and handed over by the command line."""

from __future__ import annotations

from helpers import Run
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


def test_a_machine_in_hand(phylax: Run, owner: Phylax, machine: Machine) -> None:
    assert "No visit is open" in phylax("visit", "list").stdout
    opened = phylax(
        "visit", "open", "ferry-desk", "--problem", "It howls", "--accessories", "charger",
        "--due", "2026-03-06", "--approval-limit", "60", "--shelf", "B3",
    )  # fmt: skip
    assert opened.returncode == 0 and f"{owner.url}/visits/1/slip" in opened.stdout
    again = phylax("visit", "open", "ferry-desk")
    assert again.returncode == 4 and "Visit 1 of ferry-desk is open" in again.stderr
    moved = phylax("visit", "set-turn", "1", "--turn", "us", "--assignee", "wren", "--for",
    "the fan",
                   "--place", "bench")  # fmt: skip
    assert moved.returncode == 0 and "Wren Halloran: the fan" in moved.stdout
    assert phylax("visit", "set-turn", "1", "--turn", "us", "--assignee", "nobody").returncode == 2
    listed = phylax("visit", "list").stdout
    assert "ferry-desk" in listed and "Wren Halloran" in listed and "2026-03-06" in listed
    ended = phylax("visit", "hand-over", "1", "--mended", "--comment", "Dust in the fan",
                   "--guaranteed-until", "2027-03-02")  # fmt: skip
    assert ended.returncode == 0 and "mended" in ended.stdout
    shown = phylax("visit", "show", "1").stdout
    assert "It howls" in shown and "Dust in the fan" in shown and "2027-03-02" in shown
    assert "mended" in phylax("visit", "list", "--machine", "ferry-desk").stdout
    assert phylax("visit", "hand-over", "1", "--mended").returncode == 4
    assert phylax("visit", "show", "9").returncode == 4


def test_parts_sealed_notes_and_ready(phylax: Run, owner: Phylax, machine: Machine) -> None:
    phylax("visit", "open", "ferry-desk", "--problem", "It clicks")
    assert "No part is on order" in phylax("visit", "list-parts").stdout
    ordered = phylax("visit", "order", "1", "SSD, 1 TB", "--from", "Kittiwake",
                     "--expected", "2026-03-09")  # fmt: skip
    assert ordered.returncode == 0 and "2026-03-09" in ordered.stdout
    assert "Kittiwake" in phylax("visit", "list-parts").stdout
    assert "arrived" in phylax("visit", "change-part", "1", "arrived").stdout
    assert "No part is on order" in phylax("visit", "list-parts").stdout
    owner.visits.seal_note(1, "Bram's sign-in", "under the keyboard")
    assert "under the keyboard" in phylax("visit", "open-note", "1").stdout
    shown = phylax("visit", "show", "1").stdout
    assert "SSD, 1 TB, arrived" in shown and "read 1 time" in shown and "keyboard" not in shown
    ready = phylax("visit", "ready", "1", "--comment", "It costs 60.")
    assert ready.returncode == 0 and "ready to collect" in ready.stdout
    refused = phylax("visit", "ready", "1", "--mail", "a@b.example")
    assert refused.returncode == 4 and "No mail server" in refused.stderr
