"""Long work as steps of routines: their order, what is left out and why, before and after."""

from __future__ import annotations

from pathlib import Path

import pytest

from helpers import enrol, make_standin
from phylax.agent.machines.standin_upkeep import (
    PretendedDisk,
    PretendedRestart,
    read_upkeep,
)
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.attention import Cause
from phylax.core.checks.findings import Finding, Result, Severity
from phylax.core.clients.shop import Machine
from phylax.core.runs.runs import RunDetail, RunState
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind, StepState
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.store.runs import step_lengths
from upkeep_machine import (
    BROKEN,
    CHAT,
    NEWER_CHAT,
    SPINS,
    comes_back_alone,
    has,
)


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    make_standin(tmp_path / "m")
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


WHOLE = (
    StepKind.SURVEY, StepKind.CHECK, StepKind.QUICK_SCAN, StepKind.CLEAN, StepKind.SECOND_LOOK,
    StepKind.FULL_SCAN, StepKind.UPDATE, StepKind.TUNE, StepKind.ARRANGE, StepKind.RESTART,
    StepKind.COMPARE,
)  # fmt: skip


def routine_run(owner: Phylax, machine: Machine, agent: Agent, *kinds: StepKind) -> RunDetail:
    steps = tuple(
        RoutineStep(kind=kind, categories=("user-temp",) if kind is StepKind.CLEAN else ())
        for kind in kinds
    )
    routine = owner.routines.add(RoutineEdit(name="All of it", steps=steps))
    (run,) = owner.routines.run(routine.id, [machine.id])
    for _ in range(4):
        agent.once()
    return owner.runs.get(run.id)


def test_all_of_it_in_the_order_that_the_work_demands(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    comes_back_alone(owner, machine)
    restart = PretendedRestart(usable_after=30, after_seconds=0)
    has(
        tmp_path, updates=[NEWER_CHAT], programs=[CHAT], restart=restart,
        disks={"/": PretendedDisk(facts=SPINS, files=100, pieces=400)},
    )  # fmt: skip
    run = routine_run(owner, machine, agent, *reversed(WHOLE))
    assert tuple(step.kind for step in run.steps) == WHOLE
    words = {step.kind: step.comment for step in run.steps}
    assert {step.state for step in run.steps} == {StepState.DONE}, words
    assert run.state is RunState.DONE
    assert words[StepKind.UPDATE] == "Harbour Chat: 4.1, now 4.2"
    assert "400 pieces of 100 files, now 100 pieces" in words[StepKind.ARRANGE]
    assert "restarted" in words[StepKind.RESTART]
    comparison = owner.upkeep.comparison(run.id)
    assert comparison.after is not None and comparison.restarted


def test_without_an_answer_the_restart_waits_for_a_person(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    run = routine_run(owner, machine, agent, StepKind.UPDATE, StepKind.RESTART, StepKind.COMPARE)
    assert [step.state for step in run.steps] == [
        StepState.DONE, StepState.DONE, StepState.TO_DO, StepState.TO_DO
    ]  # fmt: skip
    assert run.awaits_person
    owner.runs.tick(run.id, 3, comment="done by hand")
    agent.once()
    ended = owner.runs.get(run.id)
    assert ended.state is RunState.DONE and ended.steps[3].state is StepState.DONE


def test_errors_of_the_file_system_leave_out_the_arranging_alone(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    has(tmp_path, disks={"/": PretendedDisk(facts=SPINS, files=100, pieces=400)})
    (tmp_path / "m/checks.toml").write_text(BROKEN)
    run = routine_run(
        owner, machine, agent, StepKind.CHECK, StepKind.CLEAN, StepKind.ARRANGE, StepKind.COMPARE
    )
    states = {step.kind: step.state for step in run.steps}
    assert states.pop(StepKind.ARRANGE) is StepState.LEFT_OUT
    assert set(states.values()) == {StepState.DONE}
    assert run.state is RunState.PARTLY and "arrange" in run.reason
    assert read_upkeep(tmp_path / "m").disks["/"].pieces == 400


def test_malware_stops_what_would_take_or_spread_it(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    bad = Finding(severity=Severity.WARNING, what="Malware: Made.For.A.Test", where="/tmp/x")
    has(tmp_path, malware=[bad], updates=[NEWER_CHAT])
    run = routine_run(owner, machine, agent, *WHOLE[:-2], StepKind.COMPARE)
    states = {step.kind: step.state for step in run.steps}
    left_out = {kind for kind, state in states.items() if state is StepState.LEFT_OUT}
    assert left_out == {StepKind.CLEAN, StepKind.UPDATE, StepKind.TUNE, StepKind.ARRANGE}
    monitor.whole(context)
    causes = [a.cause for a in owner.today().needs_attention]
    assert causes[0] is Cause.MALWARE and causes.count(Cause.MALWARE) == 1, "the full scan covers"
    for kept in owner.checks.of(machine.tag):
        if kept.is_open:
            owner.checks.settle(kept.id, "taken away by hand")
    has(tmp_path)
    again = owner.routines.run(run.routine_id or 0, [machine.id])[0]
    for _ in range(3):
        agent.once()
    assert owner.runs.get(again.id).state is RunState.DONE


def test_a_quick_scan_that_is_clean_hides_nothing_of_the_full_one(
    owner: Phylax, machine: Machine, agent: Agent, tmp_path: Path
) -> None:
    bad = Finding(severity=Severity.WARNING, what="Malware: Made.For.A.Test", where="/srv/x")
    has(tmp_path, malware=[bad])
    owner.runs.check(machine.tag, ("malware",), {"malware": "full"})
    agent.once()
    has(tmp_path)
    owner.runs.check(machine.tag, ("malware",), {"malware": "quick"})
    agent.once()
    by_mode = {kept.checked.mode: kept.checked.result for kept in owner.checks.of(machine.tag)}
    assert by_mode == {"full": Result.FINDINGS, "quick": Result.CLEAN}


def test_a_step_that_its_window_has_no_room_for_is_left_out(
    owner: Phylax, machine: Machine, agent: Agent, context: Context, tmp_path: Path
) -> None:
    from phylax.core.checks.time_left import Ran
    from phylax.service.runs import checklist
    from phylax.store.runs import runs, steps

    steps_ = tuple(RoutineStep(kind=kind) for kind in (StepKind.CHECK, StepKind.FULL_SCAN))
    routine = owner.routines.add(RoutineEdit(name="Long", steps=steps_))
    (run,) = owner.routines.run(routine.id, [machine.id])
    with context.db.write() as conn:
        step_lengths.note(conn, machine.id, "full scan", Ran(0, 7200.0))
        waiting = runs.run(conn, run.id)
        assert waiting is not None
        end_by = context.now() + 3600
        checklist.begin_part(conn, waiting, end_by, at=context.now())
        laid = steps.of_run(conn, run.id, routine.id, routine.version)
    assert laid[1].state is StepState.LEFT_OUT and "about 120 min" in laid[1].comment
    assert [step.expected_seconds for step in owner.runs.get(run.id).steps] == [None, 7200]
