"""Checks over the service: asked for, told, judged by movement, dealt with, on Today."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import pytest
from pydantic import ValidationError

from conftest import Service
from helpers import enrol, make_standin
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime.loop import Agent
from phylax.client import NotAllowedError, NotFoundError, Phylax, RefusedError
from phylax.core.attention import NextStep
from phylax.core.checks.findings import Result, Severity
from phylax.core.checks.kept import StoredCheck
from phylax.core.checks.kind import kinds
from phylax.core.clients.shop import Machine
from phylax.core.protocol import CheckOrder
from phylax.core.runs.runs import RunDetail, RunState
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind, StepState
from phylax.service.attention import monitor
from phylax.service.context.context import Context

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


def check(owner: Phylax, machine: Machine, agent: Agent, *keys: str) -> dict[str, StoredCheck]:
    run = owner.runs.check(machine.tag, keys or ("file-system", "disk-health"))
    agent.once()
    assert owner.runs.get(run.id).state is RunState.DONE
    return {kept.checked.check: kept for kept in owner.checks.of(machine.tag)}


def urgent(owner: Phylax, context: Context) -> list[tuple[str, str]]:
    """What needs somebody because of checks, the most urgent first."""
    monitor.whole(context)
    return [(a.reason, a.next_step) for a in owner.today().needs_attention
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
    def disk(pending: int) -> StoredCheck:
        say(tmp_path, f'[disks."disk 0"]\nfailing = 0\n"pending sectors" = {pending}\n')
        return check(owner, machine, agent, "disk-health")["disk-health"]

    assert disk(0).checked.result is Result.CLEAN
    assert [f.severity for f in disk(12).checked.findings] == [Severity.FAILING]
    monitor.whole(context)
    assert [a.reason for a in owner.today().needs_attention[:1]] == [
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


def routine_run(owner: Phylax, machine: Machine, agent: Agent, *kinds: StepKind) -> RunDetail:
    """A routine of some steps, carried out once."""
    steps = tuple(
        RoutineStep(kind=kind, categories=("user-temp",) if kind is StepKind.CLEAN else ())
        for kind in kinds
    )
    routine = owner.routines.add(RoutineEdit(name="Checked first", steps=steps))
    (run,) = owner.routines.run(routine.id, [machine.id])
    for _ in range(4):
        agent.once()
    return owner.runs.get(run.id)


ALL = (StepKind.CLEAN, StepKind.CHECK, StepKind.TUNE, StepKind.SURVEY)


def test_a_routine_checks_before_anything_is_changed(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    run = routine_run(owner, machine, agent, *ALL)
    assert [step.kind for step in run.steps] == [
        StepKind.SURVEY, StepKind.CHECK, StepKind.CLEAN, StepKind.SECOND_LOOK, StepKind.TUNE,
    ]  # fmt: skip
    assert {step.state for step in run.steps} == {StepState.DONE}
    assert run.steps[1].comment == "nothing found"
    assert run.state is RunState.DONE
    (entry,) = [e for e in owner.records.list(machine=machine.tag) if e.run_id == run.id]
    assert "9 checks found nothing." in entry.text


def test_findings_of_a_file_system_do_not_keep_it_from_being_cleaned(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    say(tmp_path, BROKEN)
    run = routine_run(owner, machine, agent, *ALL)
    assert {step.state for step in run.steps} == {StepState.DONE}
    assert run.steps[1].comment == "/: The file system has errors, and 1 more"


def test_a_failing_disk_stops_all_that_comes_after(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    say(tmp_path, '[disks."disk 0"]\nfailing = 1\n')
    run = routine_run(owner, machine, agent, *ALL)
    states = [step.state for step in run.steps]
    assert states == [StepState.DONE, StepState.DONE] + [StepState.LEFT_OUT] * 3
    assert run.steps[2].comment == "disk 0 is failing: save the data first"
    assert (run.state, run.removed.count if run.removed else 0) == (RunState.PARTLY, 0)


def test_a_routine_of_checks_alone(owner: Phylax, machine: Machine, agent: Agent) -> None:
    run = routine_run(owner, machine, agent, StepKind.CHECK)
    assert (run.work, run.state) == ("check", RunState.DONE)
    in_step = {key for key, kind in kinds().items() if kind.in_step}
    assert {kept.checked.check for kept in owner.checks.of(machine.tag)} == in_step


def test_the_machines_own_guard_has_the_last_word(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    guard = tmp_path / "agent/guard.toml"
    text = guard.read_text().replace("never_checks = []", 'never_checks = ["disk-health"]')
    guard.write_text(text)
    kept = check(owner, machine, Agent(AgentHome(tmp_path / "agent")))
    assert kept["file-system"].checked.result is Result.CLEAN
    assert kept["disk-health"].checked.why == "named by this machine's own guard"


def test_a_hostile_service_can_have_nothing_else_checked(
    owner: Phylax, machine: Machine, agent: Agent, context: Context
) -> None:
    for forged in ("../../etc", "file-system; rm", "", "A"):
        with pytest.raises(ValidationError):
            CheckOrder(run_id=1, lease="l", checks=(forged,))
    run = owner.runs.check(machine.tag, ("file-system",))
    with context.db.write() as conn:
        conn.execute("UPDATE runs SET checks = ? WHERE id = ?", ('["format"]', run.id))
    agent.once()
    (kept,) = owner.checks.of(machine.tag)
    assert (kept.checked.check, kept.checked.why) == ("format", "this agent has no such check")


def test_called_off_it_ends_soon_and_what_was_checked_is_told(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    say(tmp_path, "seconds = 30\n")
    run = owner.runs.check(machine.tag, ("file-system", "disk-health"))
    working = threading.Thread(target=agent.once)
    working.start()
    while owner.runs.get(run.id).state is not RunState.RUNNING:
        time.sleep(0.05)
    owner.runs.call_off(run.id)
    working.join(25)
    assert not working.is_alive()
    assert owner.runs.get(run.id).state is RunState.CALLED_OFF
