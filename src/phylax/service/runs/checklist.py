"""A run's steps: the agent's tick themselves, people tick theirs, and what comes next is found."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.protocol import Step
from phylax.core.runs.runs import Run, conclude, with_steps
from phylax.core.scheduling.routines import (
    RunStep,
    StepKind,
    StepState,
    StepTick,
    agents_part,
    current,
)
from phylax.service.problems import Problem, invalid, not_found
from phylax.service.runs.finish import write_down
from phylax.service.upkeep.steps import is_agents, left_out_beforehand
from phylax.store.file import events
from phylax.store.runs import runs, steps
from phylax.store.scheduling import routines

_AGENT = "the agent"
_MACHINE = "the machine"
_OVER_BY: dict[Step, tuple[StepKind, ...]] = {
    "clean": (StepKind.SURVEY,),
    "further pass": (StepKind.SURVEY,),
    "second look": (StepKind.SURVEY, StepKind.CLEAN),
}
"""Which steps are over when the agent tells that it is at this one."""


def of(conn: Connection, run: Run) -> tuple[RunStep, ...]:
    return steps.of_run(conn, run.id, run.routine_id, run.routine_version)


def _leave_out_beforehand(conn: Connection, run: Run, end_by: int | None, *, at: int) -> None:
    """Findings stand in the way of some steps, and the window of others is too short."""
    to_do = tuple(step for step in of(conn, run) if step.state is StepState.TO_DO)
    for number, why in left_out_beforehand(conn, run, to_do, end_by, at=at).items():
        steps.put(conn, run.id, [number], StepState.LEFT_OUT, at=at, by=_AGENT, word=why)


def begin_part(conn: Connection, run: Run, end_by: int | None, *, at: int) -> tuple[RunStep, ...]:
    """The steps that the agent does next; they are under way from now on."""
    all_ = of(conn, run)
    steps.lay_out(conn, run.id, all_)
    _leave_out_beforehand(conn, run, end_by, at=at)
    part = agents_part(of(conn, run), lambda step: is_agents(conn, run.machine_id, step))
    steps.put(conn, run.id, [s.number for s in part], StepState.UNDER_WAY, at=at, by="")
    return part


def note_progress(conn: Connection, run_id: int, step: Step, *, at: int) -> None:
    """Tick what is over by now."""
    run = runs.run(conn, run_id)
    over = _OVER_BY.get(step, ())
    if run is None or run.routine_id is None or not over:
        return
    numbers = [
        step.number
        for step in of(conn, run)
        if step.kind in over and step.state is StepState.UNDER_WAY
    ]
    if numbers:
        steps.put(conn, run_id, numbers, StepState.DONE, at=at, by=_AGENT)


def alone_under_way(conn: Connection, run: Run) -> StepKind | None:
    """The step under way that is an order of its own; None where it is none of these."""
    if run.routine_id is None:
        return None
    kinds = (s.kind for s in of(conn, run) if s.state is StepState.UNDER_WAY)
    return next((kind for kind in kinds if kind.is_alone or kind is StepKind.RESTART), None)


def leave_out_rest(conn: Connection, run: Run, word: str, *, at: int) -> None:
    """What the agent would still do is left out; steps of people stay theirs."""
    rest = [s.number for s in of(conn, run) if s.kind.by_agent and s.state is StepState.TO_DO]
    steps.put(conn, run.id, rest, StepState.LEFT_OUT, at=at, by=_AGENT, word=word)


def end_part(
    conn: Connection,
    run: Run,
    *,
    went_well: bool,
    at: int,
    word: str = "",
    refused: bool = False,
) -> bool:
    """The agent has told what came of its part; True where more steps follow."""
    under_way = [step.number for step in of(conn, run) if step.state is StepState.UNDER_WAY]
    state = StepState.TO_DO
    if went_well:
        state = StepState.LEFT_OUT if refused else StepState.DONE
    steps.put(conn, run.id, under_way, state, at=at, by=_AGENT, word=word)
    if went_well:
        _leave_out_beforehand(conn, run, None, at=at)
    return went_well and current(of(conn, run)) is not None


def next_is_by_hand(conn: Connection, run: Run) -> bool:
    step = current(of(conn, run))
    return step is not None and not is_agents(conn, run.machine_id, step)


def tick(conn: Connection, run: Run, number: int, edit: StepTick, *, who: str, at: int) -> None:
    """What a person says of a step by hand. Problems where it is not theirs to tick."""
    if run.state.has_ended:
        raise Problem(409, "ended-already", f"Run {run.id} has ended already: {run.state}.")
    all_ = of(conn, run)
    step = next((listed for listed in all_ if listed.number == number), None)
    if step is None:
        raise not_found("step", number)
    if step.kind.by_agent or step.state is StepState.UNDER_WAY:
        raise Problem(409, "agents-step", f"Step {number}, {step.kind}, is done by the "
                      "agent, which ticks it off itself.")  # fmt: skip
    later = [listed for listed in all_ if listed.number > number and listed.kind.by_agent]
    if not edit.state.is_over and any(listed.state is not StepState.TO_DO for listed in later):
        raise Problem(
            409, "built-upon", f"Step {number} cannot be reopened: a later step has begun."
        )
    if edit.state is StepState.LEFT_OUT and not edit.comment.strip():
        raise invalid("/comment", "say why the step is skipped")
    steps.lay_out(conn, run.id, all_)
    steps.put(conn, run.id, [number], edit.state, at=at, by=who, word=edit.comment.strip())
    go_on(conn, run, at=at)


def note_restart(conn: Connection, machine_id: int, booted_at: int, *, at: int) -> None:
    """A machine has told when it was started: a step that waited for its restart is done."""
    for run in runs.at_hand_of(conn, machine_id):
        all_ = of(conn, run)
        step = current(all_)
        if step is None or step.kind is not StepKind.RESTART:
            continue
        before = [to_seconds(earlier.at) for earlier in all_[: step.number - 1] if earlier.at]
        since = max([to_seconds(run.made_at), *before])
        if booted_at <= since:
            continue
        steps.lay_out(conn, run.id, all_)
        word = f"started {from_seconds(booted_at):%Y-%m-%d %H:%M} UTC"
        steps.put(conn, run.id, [step.number], StepState.DONE, at=at, by=_MACHINE, word=word)
        go_on(conn, run, at=at)


def go_on(conn: Connection, run: Run, *, at: int) -> None:
    """After a person's step: the next one's turn, or the end."""
    step = current(of(conn, run))
    if step is None:
        conclude_run(conn, run, at=at)
    else:
        by_agent = is_agents(conn, run.machine_id, step)
        runs.begin_by_hand(conn, run.id, at_hand=not by_agent, at=at)
    events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)


def conclude_run(conn: Connection, run: Run, *, at: int) -> None:
    """Every step is over: the run ends as its agent's work did, and as its steps did."""
    result = runs.kept_result(conn, run.id)
    conclusion = with_steps(conclude(result) if result else None, of(conn, run))
    ending = runs.Ending(conclusion.state, conclusion.reason, conclusion=conclusion)
    if runs.end(conn, run.id, ending, at=at):
        write_down(conn, run, conclusion, at=at)
        note_length(conn, run)


def note_length(conn: Connection, run: Run) -> None:
    """How long the agent worked is what the next estimate is made from."""
    worked = runs.worked(conn, run.id)
    # one of chosen volumes says little of how long all of them take
    if run.routine_id is not None and worked and run.volumes.is_all:
        routines.note_length(conn, run.routine_id, run.machine_id, worked)
