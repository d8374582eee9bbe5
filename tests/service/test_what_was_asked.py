"""What somebody agreed to is what is done: figures, rule and protect list of one survey."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

import pytest

from helpers import enrol, make_file, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.runs.runs import RunState

HELD, GONE = Rule(hold_for=timedelta(days=5)), Rule(hold_for=timedelta(0))


@pytest.fixture
def old(tmp_path: Path) -> Path:
    home = make_standin(tmp_path / "standin")
    return make_file(home / ".tmp/old", 3_000_000, days_old=40)


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, old: Path) -> Agent:
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "standin")


@pytest.fixture
def survey_id(owner: Phylax, machine: Machine, agent: Agent) -> int:
    owner.rules.put(Scope.SHOP, 0, "user-temp", HELD)
    owner.runs.survey(machine.tag)
    agent.once()
    ledger = owner.machines.ledger(machine.tag)
    (line,) = (line for line in ledger.lines if line.category == "user-temp")
    assert (line.removable.count, line.hold_for) == (1, timedelta(days=5))
    return ledger.survey_id


def clean(owner: Phylax, machine: Machine, survey_id: int) -> int:
    return owner.runs.clean(machine.tag, ["user-temp"], survey_id=survey_id).id


def test_where_nothing_changed_it_is_done_as_it_was_shown(
    owner: Phylax, machine: Machine, agent: Agent, survey_id: int, old: Path
) -> None:
    # what is said elsewhere decides on nothing here
    owner.rules.put(Scope.SHOP, 0, "trash", Rule(keep_for=timedelta(days=3)))
    run_id = clean(owner, machine, survey_id)
    agent.once()
    ended = owner.runs.get(run_id)
    assert ended.state is RunState.DONE and ended.held is not None and ended.held.count == 1
    assert not old.exists()


def test_a_rule_that_was_changed_since_is_refused_with_both_versions(
    owner: Phylax, machine: Machine, survey_id: int, agent: Agent, old: Path
) -> None:
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", GONE)
    with pytest.raises(RefusedError) as refused:
        clean(owner, machine, survey_id)
    words = str(refused.value)
    assert "Temporary files" in words and "held 5 days first" in words and "survey again" in words
    assert words.index("held 5 days first") < words.index("now")
    agent.once()
    assert old.exists() and not [r for r in owner.runs.list() if r.work == "clean"]
    # without a question nobody was shown anything else
    assert owner.runs.clean(machine.tag, ["user-temp"]).id


def test_a_rule_that_is_changed_before_the_machine_calls_ends_the_run(
    owner: Phylax, machine: Machine, survey_id: int, agent: Agent, old: Path
) -> None:
    run_id = clean(owner, machine, survey_id)
    owner.rules.put(Scope.MACHINE, machine.id, "user-temp", GONE)
    agent.once()
    ended = owner.runs.get(run_id)
    assert ended.state is RunState.FAILED
    assert "held 5 days first" in ended.reason and "Nothing was cleaned" in ended.reason
    assert old.exists()


@pytest.mark.parametrize("when", ["before the question", "before the machine calls"])
def test_what_was_protected_meanwhile_or_no_longer_is(
    owner: Phylax, machine: Machine, agent: Agent, old: Path, when: str, survey_id: int
) -> None:
    entry = ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.tif")
    if when == "before the question":
        added = owner.protections.add(entry)
        with pytest.raises(RefusedError, match=r"the protect list: \*\.tif added since"):
            clean(owner, machine, survey_id)
        owner.protections.remove(added.id)
        assert clean(owner, machine, survey_id)
        return
    owner.protections.add(entry)
    owner.runs.survey(machine.tag)
    agent.once()
    newer = owner.machines.ledger(machine.tag).survey_id
    run_id = clean(owner, machine, newer)
    (added,) = owner.protections.list()
    owner.protections.remove(added.id)
    agent.once()
    ended = owner.runs.get(run_id)
    assert ended.state is RunState.FAILED and "was taken off it since" in ended.reason
    assert old.exists()


def test_a_question_by_an_older_survey_is_refused(
    owner: Phylax, machine: Machine, agent: Agent, survey_id: int
) -> None:
    owner.runs.survey(machine.tag)
    agent.once()
    with pytest.raises(RefusedError, match="a newer survey shows other figures"):
        clean(owner, machine, survey_id)
