"""A list on the bench: the agent's steps tick themselves, people tick theirs."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import tomli_w

from conftest import Service
from helpers import TUESDAY, Clock, enrol, make_file, make_standin
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import Machine
from phylax.core.runs.runs import RunDetail, RunState
from phylax.core.scheduling.routines import RoutineEdit, RoutineStep, StepKind, StepState
from phylax.service.rounds import scheduler

HAND_OVER = 3
"""The shipped routine for the bench."""


@pytest.fixture
def agent(owner: Phylax, machine: Machine, tmp_path: Path) -> Agent:
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", 5000, days_old=3)
    return enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")


def states(run: RunDetail) -> str:
    marks = {"to do": ".", "under way": "~", "done": "x", "left out": "-"}
    return "".join(marks[step.state] for step in run.steps)


def test_a_list_goes_from_hand_to_agent_to_hand_and_ends_when_all_is_ticked(
    service: Service, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    (run,) = owner.routines.run(HAND_OVER, [machine.id], on_bench=True)
    agent.once()
    assert states(owner.runs.get(run.id)) == "................", "a person comes first"
    owner.runs.tick(run.id, 1, comment="the letters stay")
    agent.once()
    looked = owner.runs.get(run.id)
    assert states(looked) == "xxxx............"
    assert looked.state is RunState.RUNNING and looked.awaits_person
    assert agent.once() is False, "nothing goes before somebody has read what would be removed"
    wren = service.as_("wren")
    wren.runs.tick(run.id, 5)
    agent.once()
    cleaned = owner.runs.get(run.id)
    assert states(cleaned) == "xxxxxxx........."
    assert cleaned.removed is None and not cleaned.state.has_ended
    wren.runs.tick(run.id, 8, StepState.LEFT_OUT, "glued shut")
    agent.once()
    tuned = owner.runs.get(run.id)
    # whether it comes back alone nobody has asked, so the restart waits for a person
    assert states(tuned) == "xxxxxxx-xxxx...." and tuned.steps[10].comment == "nothing changed"
    wren.runs.tick(run.id, 16, comment="slow to print")
    owner.runs.tick(run.id, 13)
    agent.once()
    assert owner.runs.get(run.id).steps[13].comment == "nothing is otherwise"
    ended = owner.runs.tick(run.id, 15)
    assert (ended.state, ended.reason) == (
        RunState.PARTLY, "1 step left out: Dust, fans, cables",
    )  # fmt: skip
    assert ended.removed is not None and ended.removed.count == 1
    assert [(s.by, s.comment) for s in ended.steps if s.number in (1, 2, 5, 8)] == [
        ("Ines Marrow", "the letters stay"), ("the agent", ""), ("Wren Halloran", ""),
        ("Wren Halloran", "glued shut"),
    ]  # fmt: skip
    (record, *_) = owner.records.list(machine=machine.tag)
    assert "Removed 1 item" in record.text and "1 step left out" in record.text


def test_people_tick_only_what_is_theirs_and_say_why_they_leave_something_out(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    (run,) = owner.routines.run(HAND_OVER, [machine.id])
    for number, state, complaint in [
        (2, StepState.DONE, "is done by the agent"), (17, StepState.DONE, "no step"),
        (1, StepState.LEFT_OUT, "say why"),
    ]:  # fmt: skip
        with pytest.raises(RefusedError, match=complaint):
            owner.runs.tick(run.id, number, state)
    owner.runs.tick(run.id, 1)
    assert states(owner.runs.tick(run.id, 1, StepState.TO_DO)) == "................"
    owner.runs.tick(run.id, 1)
    agent.once()
    with pytest.raises(RefusedError, match="a later step has begun"):
        owner.runs.tick(run.id, 1, StepState.TO_DO)
    assert owner.runs.call_off(run.id).state is RunState.CALLED_OFF
    with pytest.raises(RefusedError, match="ended already"):
        owner.runs.tick(run.id, 5)


def test_a_restart_ticks_itself_when_the_machine_was_started_since(
    service: Service, owner: Phylax, machine: Machine, agent: Agent, clock: Clock, tmp_path: Path
) -> None:
    clock.now = datetime.now(UTC)
    restart = RoutineStep(kind=StepKind.RESTART)
    routine = owner.routines.add(RoutineEdit(name="Restart", steps=(restart,)))
    (run,) = owner.routines.run(routine.id, [machine.id])

    def started(at: datetime) -> RunDetail:
        state = tmp_path / "m/machine.toml"
        state.write_text(state.read_text() + tomli_w.dumps({"booted_at": at}))
        agent.once()
        state.write_text(state.read_text().partition("booted_at")[0])
        return owner.runs.get(run.id)

    assert not started(clock.now - timedelta(days=3)).state.has_ended
    ended = started(clock.now + timedelta(minutes=4))
    assert ended.state is RunState.DONE and ended.steps[0].by == "the machine"


def test_rounds_wait_while_a_list_is_open_on_the_bench_and_what_people_ask_for_goes_ahead(
    service: Service, owner: Phylax, machine: Machine, agent: Agent, clock: Clock
) -> None:
    owner.rounds.add(TUESDAY.model_copy(update={"catch_up": timedelta(hours=10)}))
    (bench,) = owner.routines.run(HAND_OVER, [machine.id], on_bench=True)
    for minute in range(0, 60 * 45, 2):
        clock.now = datetime(2026, 3, 2, 9, tzinfo=UTC) + timedelta(minutes=minute)
        scheduler.tick(service.context)
        if minute == 60 * 34:
            agent.once()
            owner.runs.survey(machine.tag)
            assert agent.once() is True
    looked, missed = list(owner.runs.list())[:2]
    assert (looked.work, looked.state) == ("survey", RunState.DONE)
    assert missed.state is RunState.MISSED and "busy with other work" in missed.reason
    assert not owner.runs.get(bench.id).state.has_ended


def test_a_routine_is_copied_changed_and_kept_in_every_version(
    service: Service, owner: Phylax, machine: Machine, agent: Agent
) -> None:
    came = owner.routines.get(1)
    with pytest.raises(RefusedError, match="copy it to change it"):
        owner.routines.change(came, RoutineEdit(name="x", steps=came.steps))
    ours = owner.routines.add(RoutineEdit(name="Ours", steps=came.steps))
    (run,) = owner.routines.run(ours.id, [machine.id])
    only_look = RoutineEdit(name="Ours", steps=(RoutineStep(kind=StepKind.SURVEY),))
    changed = owner.routines.change(ours, only_look)
    assert changed.version == 2 and [r.version for r in owner.routines.versions(ours.id)] == [2, 1]
    agent.once()
    done = owner.runs.get(run.id)
    assert done.routine_version == 1 and len(done.steps) == 3 and done.state is RunState.DONE
    owner.rounds.add(TUESDAY.model_copy(update={"routine_id": ours.id}))
    with pytest.raises(RefusedError, match="recurs in Tuesdays"):
        owner.routines.end(ours.id)
    owner.rounds.end(1)
    owner.routines.end(ours.id)
    assert "Ours" not in [r.name for r in owner.routines.list()]
    assert owner.runs.get(run.id).routine_name == "Ours"
    with service.as_("petra") as desk, pytest.raises(RefusedError):
        desk.routines.add(only_look)


def test_how_long_a_routine_takes_is_known_from_its_runs(
    owner: Phylax, machine: Machine, agent: Agent
) -> None:
    tuesday = owner.rounds.add(TUESDAY)
    (before,) = owner.rounds.machines(tuesday.id)
    assert before.expected_duration == timedelta(minutes=15), "a guess"
    owner.routines.run(1, [machine.id])
    agent.once()
    (after,) = owner.rounds.machines(tuesday.id)
    assert after.expected_duration < timedelta(minutes=1)
