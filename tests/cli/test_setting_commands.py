"""`phylax setting`: what is read, what is wanted, and changing it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from helpers import Run, enrol, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.clients.shop import Machine
from phylax.core.retention import Scope


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    (tmp_path / "m/settings").mkdir()
    for name, value in {"power": "even", "asleep-when": 30, "motion.anna": True}.items():
        (tmp_path / f"m/settings/{name}.json").write_text(json.dumps({"value": value}))
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.runs.survey(machine.tag)
    agent.once()
    return agent


def test_the_catalogue_says_what_each_can_be(phylax: Run) -> None:
    said = phylax("setting", "list-kinds")
    assert said.returncode == 0
    assert "0 to 600 min" in said.stdout and "speed, even, battery" in said.stdout


def test_a_rule_is_set_seen_and_taken_back(
    phylax: Run, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    assert phylax("setting", "set", "power", "speed").returncode == 0
    listed = phylax("setting", "list", machine.tag)
    assert "motion of anna" in listed.stdout and "speed first" in listed.stdout
    again = phylax("setting", "set", "power", "battery", "--machine", machine.tag)
    assert f"is to be saving first, for {machine.tag}" in again.stdout
    shown = json.loads(phylax("setting", "list", machine.tag, "--format", "json").stdout)
    (power,) = [value for value in shown if value["seen"]["key"] == "power"]
    assert (power["becomes"], power["verdict"]["source"]) == ("saving first", "machine")
    assert phylax("setting", "set", "power", "--nothing", "--machine", machine.tag).returncode == 0
    assert "speed first" in phylax("setting", "list", machine.tag).stdout


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("power", "faster"), "power can be speed, even, battery, not 'faster'"),
        (("asleep-when", "601"), "0 to 600 min"),
        (("motion", "yes"), "on, off"),
        (("power",), "Give a VALUE, --leave or --nothing"),
        (("power", "speed", "--leave"), "Give a VALUE, --leave or --nothing"),
        (("faster", "on"), "faster"),
    ],
)
def test_what_cannot_be_wanted_says_what_can(
    phylax: Run, words: tuple[str, ...], said: str
) -> None:
    refused = phylax("setting", "set", *words)
    assert refused.returncode == 2 and said in refused.stderr


def test_a_change_is_said_first_and_done_with_a_yes(
    phylax: Run, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    assert "is as the shop wants it" in phylax("setting", "change", machine.tag).stdout
    phylax("setting", "set", "power", "speed")
    dry = phylax("setting", "change", machine.tag, "--dry-run")
    assert "power: even now, speed first then." in dry.stdout
    assert next(iter(owner.runs.list())).work == "survey", "nothing was ordered"
    stays = phylax("setting", "change", machine.tag, "asleep-when", "--yes")
    assert stays.returncode == 2 and "asleep-when stays" in stays.stderr
    waits = phylax("setting", "change", machine.tag, "--yes", "--no-wait")
    assert "waits for" in waits.stdout
    agent.once()
    assert "speed first" in phylax("setting", "list-changes", machine.tag).stdout
    back = phylax("setting", "put-back", machine.tag, "--all", "--no-wait")
    assert back.returncode == 0
    agent.once()
    assert "put back by Ines Marrow" in phylax("program", "list-changes", machine.tag).stdout


def test_settings_alone_are_looked_at(
    phylax: Run, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    (tmp_path / "m/settings/power.json").write_text('{"value": "speed"}')
    said = phylax("setting", "look", machine.tag, "--no-wait")
    assert f"waits for {machine.tag}" in said.stdout
    agent.once()
    assert "speed first" in phylax("setting", "list", machine.tag).stdout


def test_a_rule_says_first_what_it_would_change(
    phylax: Run, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    said = phylax("setting", "set", "power", "speed", "--dry-run")
    assert "Power while plugged in: changes to speed first on 1 machine." in said.stdout
    assert "As it is now: changes on 0 machines, stays on 1 (no rule wants otherwise)." in (
        said.stdout
    )
    assert owner.settings.rules(Scope.SHOP, 0) == []
    said = phylax("setting", "set", "restore-points", "5", "--dry-run")
    assert said.stdout == "It was seen on no machine yet.\n"


def test_one_setting_on_many_machines(
    phylax: Run, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    nothing = phylax("setting", "everywhere", "list-proposed")
    assert "Every setting is as the shop wants it." in nothing.stdout
    refused = phylax("setting", "everywhere", "change", "power")
    assert refused.returncode == 2 and "change 'power' nowhere" in refused.stderr
    phylax("setting", "set", "power", "speed")
    listed = json.loads(phylax("setting", "everywhere", "list-proposed", "--format", "json").stdout)
    assert [(line["setting"], line["becomes"]) for line in listed] == [("power", "speed first")]
    dry = phylax("setting", "everywhere", "change", "power", "--dry-run")
    assert f"speed first, on 1 machine: {machine.tag}." in dry.stdout
    assert owner.shared_changes.list() == []
    made = phylax(
        "setting", "everywhere", "change", "power", "--yes", "--comment", "agreed by mail"
    )
    assert "Shared change 1: 1 machine now." in made.stdout
    agent.once()
    listed = json.loads(phylax("setting", "everywhere", "list", "--format", "json").stdout)
    assert (listed[0]["becomes"], listed[0]["machines"][0]["state"]) == ("speed first", "made")
    assert "1 machine as soon as they call" in (
        phylax("setting", "everywhere", "put-back", "1", "--yes").stdout
    )
