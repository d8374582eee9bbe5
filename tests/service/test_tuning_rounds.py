"""Tuning as a step of a routine: what goes unattended, what waits, and how the run ends."""

from __future__ import annotations

from pathlib import Path

import pytest

from helpers import enrol, make_file, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.attention import Cause
from phylax.core.clients.shop import Machine
from phylax.core.retention import Scope
from phylax.core.runs.runs import RunState
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind, StepState
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent, Program, Starter, StarterKind
from phylax.core.tuning.rules import ProgramRule
from phylax.service.attention import monitor
from phylax.service.context.context import Context


def write_program(folder: Path, name: str, **more: object) -> None:
    starter = Starter(key=f"unit:{name}", kind=StarterKind.START, on=True, can_bar=True)
    program = Program.model_validate(
        {"key": f"package:{name}", "name": name.capitalize(), "package": name,
         "starters": (starter,), **more}
    )  # fmt: skip
    (folder / f"{name}.json").write_text(program.model_dump_json(), encoding="utf-8")


def write_about(owner: Phylax, name: str, intent: Intent) -> None:
    owner.programs.write(
        KnownEdit(
            recognition=Recognition(package=name), name=name.capitalize(),
            handling=ProgramDecision.GOES, intent=intent,
        )
    )  # fmt: skip


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Four programs: one goes by itself, one with a yes, one is guarded, one is not known."""
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old.tmp", 1000, days_old=60)
    startup = tmp_path / "m/startup"
    startup.mkdir()
    for name in ("helper", "search", "chat"):
        write_program(startup, name)
    write_program(startup, "screen", guarded="the screen may hang on it")
    return startup


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path, folder: Path) -> Agent:
    write_about(owner, "helper", Intent.ON_DEMAND)
    write_about(owner, "search", Intent.OFF)
    write_about(owner, "screen", Intent.ON_DEMAND)
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def routine(owner: Phylax, *steps: RoutineStep) -> int:
    return owner.routines.add(RoutineEdit(name="Tuning", note="", steps=steps)).id


CLEAN = RoutineStep(kind=StepKind.CLEAN, categories=("user-temp",))
TUNE = RoutineStep(kind=StepKind.TUNE)


def carry_out(owner: Phylax, machine: Machine, agent: Agent, number: int) -> int:
    (run,) = owner.routines.run(number, [machine.id])
    agent.once()
    return run.id


def runs_now(owner: Phylax, machine: Machine) -> dict[str, Intent]:
    return {j.program.package: j.now for j in owner.programs.on(machine.tag).programs}


def waits(owner: Phylax, context: Context) -> list[str]:
    monitor.whole(context)
    return [
        item.reason for item in owner.attention.list()
        if item.cause is Cause.WAITS_FOR_YES and item.subject == "programs"
    ]  # fmt: skip


def test_it_cleans_and_tunes_in_one_run_and_leaves_the_rest_to_a_person(
    owner: Phylax, machine: Machine, agent: Agent, context: Context
) -> None:
    run_id = carry_out(owner, machine, agent, routine(owner, CLEAN, TUNE))
    run = owner.runs.get(run_id)
    assert run.state is RunState.DONE
    assert run.removed is not None and run.removed.count == 1, "the cleaning is kept"
    assert [(step.kind, step.state) for step in run.steps][-1] == (StepKind.TUNE, StepState.DONE)
    assert runs_now(owner, machine) == {
        "helper": Intent.ON_DEMAND, "search": Intent.AT_START,
        "chat": Intent.AT_START, "screen": Intent.AT_START,
    }  # fmt: skip
    (record,) = [entry for entry in owner.records.list() if entry.run_id == run_id]
    assert record.text.startswith("Removed 1 item")
    assert record.text.endswith("1 setting changed. Helper: at start, now on demand.")
    (reason,) = waits(owner, context)
    assert reason == "1 program would run otherwise, and a person has to say so"


def test_a_person_who_says_yes_ends_the_waiting(
    owner: Phylax, machine: Machine, agent: Agent, context: Context
) -> None:
    from phylax.core.runs.runs import WantedProgram

    carry_out(owner, machine, agent, routine(owner, TUNE))
    assert waits(owner, context)
    wanted = WantedProgram(program="package:search", intent=Intent.OFF)
    owner.runs.change(machine.tag, [wanted])
    agent.once()
    assert waits(owner, context) == []


def test_what_a_person_put_back_is_left_to_persons(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    number = routine(owner, TUNE)
    carry_out(owner, machine, agent, number)
    (made,) = owner.programs.changes(machine.tag)
    owner.runs.put_settings_back(machine.tag, [made.number])
    agent.once()
    carry_out(owner, machine, agent, number)
    assert runs_now(owner, machine)["helper"] is Intent.AT_START
    assert len(owner.programs.changes(machine.tag)) == 1


def test_what_comes_back_is_put_right_three_times_where_a_rule_says_so(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path
) -> None:
    number = routine(owner, TUNE)
    carry_out(owner, machine, agent, number)
    write_program(folder, "helper")
    carry_out(owner, machine, agent, number)
    assert len(owner.programs.changes(machine.tag)) == 1, "nobody said to put it right"
    owner.programs.put_rule(Scope.SHOP, 0, "package:helper", ProgramRule(put_right=True))
    for _ in range(6):
        carry_out(owner, machine, agent, number)
        write_program(folder, "helper")
    assert len(owner.programs.changes(machine.tag)) == 4, "set once, put right three times"


def test_a_survey_with_tuning_alone_says_what_it_did(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    number = routine(owner, TUNE)
    first = carry_out(owner, machine, agent, number)
    second = carry_out(owner, machine, agent, number)
    texts = {entry.run_id: entry.text for entry in owner.records.list()}
    assert texts[first].startswith("Looked through; 1 setting changed. Helper: at start")
    assert texts[second] == "Looked through; nothing was touched."


def test_a_machine_whose_programs_cannot_be_read_is_not_tuned(
    owner: Phylax, machine: Machine, agent: Agent, monkeypatch: pytest.MonkeyPatch
) -> None:
    def no_right(self: object) -> list[Program]:
        raise PermissionError(13, "no right")

    from phylax.agent.machines.standin import StandInMachine

    monkeypatch.setattr(StandInMachine, "programs", no_right)
    run_id = carry_out(owner, machine, agent, routine(owner, CLEAN, TUNE))
    assert owner.runs.get(run_id).state is RunState.DONE
    assert list(owner.programs.changes(machine.tag)) == []


def test_tuning_that_fails_says_so_and_keeps_what_the_cleaning_did(
    owner: Phylax, machine: Machine, agent: Agent, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from phylax.agent.runtime import settings_run

    def full(*args: object, **more: object) -> None:
        raise settings_run.NotMadeError("No space left on device")

    monkeypatch.setattr("phylax.agent.tuning.changer.Changer.make", full)
    run_id = carry_out(owner, machine, agent, routine(owner, CLEAN, TUNE))
    run = owner.runs.get(run_id)
    assert run.state is RunState.PARTLY
    assert run.reason == "1 setting not changed: Helper: No space left on device"
    assert run.removed is not None and run.removed.count == 1
