"""What recurs, from the command line."""

from __future__ import annotations

import json
import re
from pathlib import Path

import httpx
import pytest

from helpers import TUESDAY, Run, enrol, make_file, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", 5000, days_old=3)
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def test_a_round_with_a_window_is_made_told_and_changed(phylax: Run, machine: Machine) -> None:
    made = phylax(
        "round", "add", "Nights", "--routine", "thorough monthly", "--client",
        "skerry ferry office", "--often", "the last Friday of every month", "--at", "20:00",
        "--closes", "06:00", "--catch-up", "2 days", "--when-below", "8", "--but-not-on",
        "2026-12-25",
    )  # fmt: skip
    assert "or when less than 8 % is free" in made.stdout and "1 machine, about" in made.stdout
    assert "20:00 to 06:00" in phylax("round", "list").stdout
    assert "is paused" in phylax("round", "pause", "1").stdout
    assert "paused" in phylax("round", "list").stdout
    assert re.search(r"goes on 20\d\d-", phylax("round", "resume", "1").stdout)
    assert "2030-03-29" in phylax("round", "pause", "1", "--until", "2030-03-01").stdout
    phylax("round", "resume", "1")
    assert (
        "is skipped on ferry-desk"
        in phylax("round", "skip", "1", "ferry-desk", "--comment", "exams").stdout
    )
    phylax("round", "hold-back", "1", "ferry-desk", "--until", "2030-01-01")
    told = phylax("agenda", "--days", "60").stdout
    assert "Nights: 1 machine, Skerry Ferry Office" in told and "window 10 hours" in told
    lines = json.loads(phylax("agenda", "--days", "60", "--format", "json").stdout)
    assert {line["routine_name"] for line in lines} == {"Thorough monthly"}
    assert "usually on in its window" in phylax("round", "list-seldom-on", "1").stdout
    assert "It has not run yet" in phylax("round", "list-runs", "1").stdout


def test_a_routine_is_copied_to_a_file_changed_and_run(
    phylax: Run, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    assert "Dust, fans, cables" in phylax("routine", "show", "before hand-over").stdout
    assert "3 steps" in phylax("routine", "copy", "1", "Ours").stdout
    file = tmp_path / "ours.toml"
    file.write_text(phylax("routine", "show", "Ours", "--toml").stdout)
    file.write_text(
        '[[steps]]\nkind = "by hand"\ntitle = "Ring first"\n'.join(
            file.read_text().split("[[steps]]\n", 1)[:1]
        )
        + '[[steps]]\nkind = "by hand"\ntitle = "Ring first"\n'
        + '[[steps]]\nkind = "clean"\ncategories = ["user-temp"]\n'
    )
    changed = phylax("routine", "change", "Ours", str(file))
    assert "version 2" in changed.stdout and "put right: a survey was put first" in changed.stdout
    file.write_text("name = ")
    assert "is no TOML" in phylax("routine", "add", str(file)).stderr
    unsaid = phylax("routine", "run", "Ours", "ferry-desk")
    assert (
        unsaid.returncode == 2
        and "Ring first" in unsaid.stdout
        and "No runs" in phylax("run", "list").stdout
    )
    said = phylax("routine", "run", "Ours", "ferry-desk", "--yes").stdout
    assert "waits for ferry-desk: Ours" in said
    assert "Ring first" in phylax("run", "show-steps", "1").stdout
    refused = phylax("run", "tick", "1", "1", "--left-out")
    assert refused.returncode == 4 and "say why" in refused.stderr
    assert (
        "“engaged”" in phylax("run", "tick", "1", "1", "--left-out", "--comment", "engaged").stdout
    )
    agent.once()
    assert phylax("run", "follow", "1").returncode == 5
    assert "1 step left out: Ring first" in phylax("run", "show", "1").stdout
    assert "Nothing was missed" in phylax("run", "list-missed").stdout
    again = phylax("run", "repeat", "1", "--yes")
    assert again.returncode == 4 and "was gone through" in again.stderr
    assert phylax("routine", "end", "Ours").returncode == 0


def test_calendars_and_closing_days(phylax: Run, owner: Phylax, machine: Machine) -> None:
    owner.rounds.add(TUESDAY)
    closed = phylax("closing-days", "add", "Fair", "2026-03-03", "--client", "Skerry Ferry Office")
    assert "Skerry Ferry Office is closed from 2026-03-03" in closed.stdout
    assert "Fair" in phylax("closing-days", "list").stdout
    assert "are gone" in phylax("closing-days", "remove", "1").stdout
    made = phylax("calendar", "add", "Mine", "--person", "ines").stdout
    address = made.strip().splitlines()[-1]
    assert httpx.get(address, timeout=60).text.startswith("BEGIN:VCALENDAR")
    listed = phylax("calendar", "list").stdout
    assert "Ines Marrow" in listed and address not in listed
    phylax("calendar", "withdraw", "1")
    assert httpx.get(address).status_code == 404
    assert phylax("calendar", "add", "x", "--person", "nobody").returncode == 2
