"""`phylax hold`: listed, shown, put back, let go, from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from helpers import Run, enrol, make_file, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


@pytest.fixture
def agent(phylax: Run, owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    """Three files are held for two weeks by a rule set on the command line."""
    home = make_standin(tmp_path / "m")
    for n in (1, 2, 3):
        make_file(home / f".tmp/{n}.txt", 1000 * n, days_old=9)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    said = phylax(
        "rule", "set", "--yes", "user-temp", "--hold-for", "14 days", "--hold-yields-below", "5 %"
    )
    assert "held 14 days first, less below 5 % free" in said.stdout
    phylax("survey", "start", machine.tag, "--no-wait")
    agent.once()
    asked = phylax("run", "clean", machine.tag, "user-temp", "--yes", "--no-wait").stdout
    assert "Held first, and can be put back so long:" in asked
    assert "3 items, 5.9 KiB, for 14 days" in asked
    agent.once()
    return agent


def test_held_things_are_listed_put_back_and_let_go(
    phylax: Run, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    home = tmp_path / "m/root/home/anna"
    ended = phylax("run", "follow", "2")
    assert ended.returncode == 0 and f"see 'phylax hold list {machine.tag}'" in ended.stdout
    (hold,) = json.loads(phylax("hold", "list", machine.tag, "--format", "json").stdout)
    assert (hold["category"], hold["held"]["count"]) == ("user-temp", 3)
    assert "2.txt" in phylax("hold", "show", "1", "--words", "2.TXT").stdout

    phylax("hold", "put-back", "1", "--number", "2", "--no-wait")
    agent.once()
    assert "put back  1 item" in phylax("run", "follow", "3").stdout
    assert len(list((home / ".tmp").iterdir())) == 1

    asked = phylax("hold", "let-go", "1")
    assert asked.returncode == 2 and "Deleted for good" in asked.stdout
    phylax("hold", "let-go", "1", "--yes", "--no-wait")
    agent.once()
    assert phylax("run", "follow", "4").returncode == 0
    assert "Nothing is held" in phylax("hold", "list", machine.tag).stdout
    again = phylax("hold", "put-back", "1")
    assert again.returncode == 4 and "is held any more" in again.stderr
