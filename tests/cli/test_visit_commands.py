"""`phylax visit`: a machine is taken in, moved on and handed over by the command line."""

from __future__ import annotations

from helpers import Run
from phylax.client import Phylax
from phylax.core.shop import Machine


def test_a_machine_in_hand(phylax: Run, owner: Phylax, machine: Machine) -> None:
    assert "No machine is in hand" in phylax("visit", "list").stdout
    opened = phylax(
        "visit", "open", "ferry-desk", "--said", "It howls", "--came-along", "charger",
        "--wanted-by", "2026-03-06", "--ask-above", "60", "--shelf", "B3",
    )  # fmt: skip
    assert opened.returncode == 0 and f"{owner.url}/visits/1/slip" in opened.stdout
    again = phylax("visit", "open", "ferry-desk")
    assert again.returncode == 4 and "Visit 1 of ferry-desk is open" in again.stderr
    moved = phylax("visit", "move", "1", "--whose", "ours", "--whom", "wren", "--for", "the fan",
                   "--place", "bench")  # fmt: skip
    assert moved.returncode == 0 and "Wren Halloran: the fan" in moved.stdout
    assert phylax("visit", "move", "1", "--whose", "ours", "--whom", "nobody").returncode == 2
    listed = phylax("visit", "list").stdout
    assert "ferry-desk" in listed and "Wren Halloran" in listed and "2026-03-06" in listed
    ended = phylax("visit", "hand-over", "1", "--mended", "--word", "Dust in the fan",
                   "--guaranteed-until", "2027-03-02")  # fmt: skip
    assert ended.returncode == 0 and "mended" in ended.stdout
    shown = phylax("visit", "show", "1").stdout
    assert "It howls" in shown and "Dust in the fan" in shown and "2027-03-02" in shown
    assert "mended" in phylax("visit", "list", "--machine", "ferry-desk").stdout
    assert phylax("visit", "hand-over", "1", "--mended").returncode == 4
    assert phylax("visit", "show", "9").returncode == 4
