"""Checks over the service: asked for, told, judged by movement, seen to, on Today."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Service
from helpers import enrol, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import NotAllowedError, NotFoundError, Phylax, RefusedError
from phylax.core.attention import NextStep
from phylax.core.checks.findings import Result, Severity
from phylax.core.checks.kept import KeptCheck
from phylax.core.runs import RunState
from phylax.core.shop import Machine
from phylax.service.context.context import Context
from phylax.service.monitoring import monitor

BROKEN = """
[volumes."/"]
findings = [
    {severity = "warning", what = "The file system has errors", evidence = "12 errors"},
    {severity = "note", what = "It is old"},
]
"""


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def say(tmp_path: Path, text: str) -> None:
    (tmp_path / "m/checks.toml").write_text(text)


def check(owner: Phylax, machine: Machine, agent: Agent, *keys: str) -> dict[str, KeptCheck]:
    run = owner.runs.check(machine.tag, keys or ("file-system", "disk-health"))
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    return {kept.checked.check: kept for kept in owner.checks.of(machine.tag)}


def urgent(owner: Phylax, context: Context) -> list[tuple[str, str]]:
    """What needs somebody because of checks, the most urgent first."""
    monitor.whole(context)
    return [(a.reason, a.next_step) for a in owner.today().needs_you
            if a.next_step is NextStep.SEE_CHECKS]  # fmt: skip


def test_a_machine_that_is_well_is_clean_and_needs_nobody(
    owner: Phylax, machine: Machine, agent: Agent, context: Context
) -> None:
    assert owner.checks.of(machine.tag) == []
    kept = check(owner, machine, agent)
    assert {key: one.checked.result for key, one in kept.items()} == {
        "file-system": Result.CLEAN, "disk-health": Result.CLEAN,
    }  # fmt: skip
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if e.run_id]
    assert entry.text.startswith("Checked; nothing was touched.")
    assert "/: clean." in entry.text and "disk 0: clean." in entry.text
    assert urgent(owner, context) == []


def test_findings_are_on_today_until_somebody_sees_to_them_or_they_are_gone(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    say(tmp_path, BROKEN)
    kept = check(owner, machine, agent)["file-system"]
    assert (kept.checked.result, kept.is_open) == (Result.FINDINGS, True)
    assert urgent(owner, context) == [("/: The file system has errors", NextStep.SEE_CHECKS)]
    settled = owner.checks.settle(kept.id, "Checked while not in use, and mended.")
    assert (settled.settled_by, settled.is_open) == ("Ines Marrow", False)
    assert urgent(owner, context) == []
    with pytest.raises(RefusedError) as refused:
        owner.checks.settle(kept.id, "once more")
    assert refused.value.status == 409
    said = [e.text for e in owner.records.list(machine=machine.tag)]
    assert any("Seen to: /: The file system has errors, and 1 more." in text for text in said)
    again = check(owner, machine, agent)["file-system"]
    assert again.is_open and again.id != kept.id, "found again, it needs somebody again"
    say(tmp_path, "")
    assert check(owner, machine, agent)["file-system"].checked.result is Result.CLEAN
    assert urgent(owner, context) == []


def test_who_could_not_look_hides_nothing_that_was_found(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    say(tmp_path, BROKEN)
    check(owner, machine, agent, "file-system")
    say(tmp_path, '[volumes."/"]\ncould_not_look = "it is in use"\n')
    check(owner, machine, agent, "file-system")
    listed = owner.checks.of(machine.tag)
    assert [kept.checked.result for kept in listed] == [Result.COULD_NOT_LOOK, Result.FINDINGS]
    assert urgent(owner, context) == [("/: The file system has errors", NextStep.SEE_CHECKS)]


def test_a_failing_disk_is_the_most_urgent_of_all_and_movement_is_seen(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    def disk(pending: int) -> KeptCheck:
        say(tmp_path, f'[disks."disk 0"]\nfailing = 0\n"pending sectors" = {pending}\n')
        return check(owner, machine, agent, "disk-health")["disk-health"]

    assert disk(0).checked.result is Result.CLEAN
    assert [f.severity for f in disk(12).checked.findings] == [Severity.FAILING]
    monitor.whole(context)
    assert [a.reason for a in owner.today().needs_you[:1]] == [
        "disk 0: More and more pending sectors: save the data first, then replace the disk"
    ]
    assert [f.severity for f in disk(12).checked.findings] == [Severity.WARNING], "no more since"


def test_what_is_told_twice_counts_once_and_others_runs_are_not_ours(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    check(owner, machine, agent)
    check(owner, machine, agent)
    assert len(owner.checks.of(machine.tag)) == 2, "the newest of each"


def test_a_file_that_is_wrong_costs_only_its_own_checks(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    say(tmp_path, "[volumes\n")
    kept = check(owner, machine, agent)
    assert {one.checked.result for one in kept.values()} == {Result.COULD_NOT_LOOK}
    assert all("checks.toml is wrong" in one.checked.why for one in kept.values())


@pytest.mark.parametrize(
    ("checks", "why"), [((), "names what to check"), (("nonsense",), "there is no check")]
)
def test_what_cannot_be_asked_says_what_can(
    owner: Phylax, machine: Machine, agent: Agent, checks: tuple[str, ...], why: str
) -> None:
    with pytest.raises(ValueError, match=why):
        owner.runs.check(machine.tag, checks)


def test_who_may_not(service: Service, owner: Phylax, machine: Machine, agent: Agent) -> None:
    with service.as_("petra") as desk:
        with pytest.raises(NotAllowedError):
            desk.checks.settle(1, "x")
        assert desk.checks.of(machine.tag) == []
        assert {kind.key for kind in desk.checks.kinds()} >= {"file-system", "disk-health"}
    with pytest.raises(NotFoundError):
        owner.checks.settle(999, "x")
