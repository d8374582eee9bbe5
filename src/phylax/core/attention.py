"""Attention: what needs a person, in order, each with its evidence and the next thing to do.

Each cause is one small function in `CAUSES`; it looks at a machine's standing and says what it
found, or nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import timedelta
from enum import StrEnum

from pydantic import Field

from phylax.core.quantities import count, show_age, show_share, show_size
from phylax.core.runs import Run, RunState
from phylax.core.shop import Machine
from phylax.core.survey import Tally
from phylax.core.values import Moment, Value

SILENT_AFTER = timedelta(days=7)


class Cause(StrEnum):
    NEARLY_FULL = "nearly full"
    RUN_FAILED = "run failed"
    MISSED = "missed"
    LEFT = "something left"
    WAITS_FOR_YES = "waits for a yes"
    SILENT = "silent"
    ALWAYS_LEFT = "always left"


class NextStep(StrEnum):
    """What the person can do about it, as the interface offers it."""

    LOOK = "look"
    CLEAN = "clean"
    DECIDE = "decide"
    RUN_AGAIN = "run again"
    ASK_CLIENT = "ask the client"


class LeftOften(Value):
    """What one cleaning after the other left, though it should have gone: five times or more."""

    items: int
    size: int
    since: Moment
    times: int
    path: str = Field(description="One of them")
    reason: str


class Standing(Value):
    """All that attention looks at for one machine, at one moment."""

    machine: Machine
    now: Moment
    threshold_percent: int
    last_run: Run | None = None
    missed_in_a_row: int = 0
    can_go: Tally | None = None
    waits_for_yes: Tally | None = None
    looked_at: Moment | None = None
    left_often: LeftOften | None = None


class Attention(Value):
    cause: Cause
    urgency: int
    machine_id: int
    machine_tag: str
    client_name: str
    since: Moment | None
    reason: str
    evidence: str
    next_step: NextStep
    volume_mount: str | None = None
    run_id: int | None = None


Finder = Callable[[Standing], Attention | None]


def _about(standing: Standing, **found: object) -> Attention:
    machine = standing.machine
    return Attention.model_validate(
        {
            "machine_id": machine.id,
            "machine_tag": machine.tag,
            "client_name": machine.client_name,
            **found,
        }
    )


def _nearly_full(standing: Standing) -> Attention | None:
    full = [v for v in standing.machine.volumes if v.is_nearly_full(standing.threshold_percent)]
    if not full:
        return None
    worst = min(full, key=lambda v: v.free / v.capacity)
    can_go = standing.can_go.size if standing.can_go else 0
    looked = standing.looked_at is not None
    worth_it = 100 * can_go >= worst.capacity
    if worth_it:
        evidence = f"{show_size(worst.free)} free; {show_size(can_go)} can go"
    elif looked:
        evidence = f"{show_size(worst.free)} free; cleaning would gain only {show_size(can_go)}"
    else:
        evidence = f"{show_size(worst.free)} free; not looked at yet"
    return _about(
        standing,
        cause=Cause.NEARLY_FULL,
        urgency=90 if worst.free * 20 < worst.capacity else 70,
        since=None,
        reason=f"{worst.mount} is {show_share(worst.used, worst.capacity)} full",
        evidence=evidence,
        next_step=NextStep.CLEAN if worth_it else NextStep.ASK_CLIENT if looked else NextStep.LOOK,
        volume_mount=worst.mount,
    )


def _run_failed(standing: Standing) -> Attention | None:
    run = standing.last_run
    if run is None or run.state is not RunState.FAILED:
        return None
    return _about(
        standing,
        cause=Cause.RUN_FAILED,
        urgency=80,
        since=run.ended_at,
        reason=f"The last {run.work} failed",
        evidence=run.reason,
        next_step=NextStep.RUN_AGAIN,
        run_id=run.id,
    )


def _missed(standing: Standing) -> Attention | None:
    run, times = standing.last_run, standing.missed_in_a_row
    if run is None or run.state is not RunState.MISSED or times < 2:
        return None
    return _about(
        standing,
        cause=Cause.MISSED,
        urgency=60,
        since=run.due_at,
        reason=f"{run.round_name or 'A run'} was missed {count(times, 'time')} in a row",
        evidence=run.reason,
        next_step=NextStep.RUN_AGAIN,
        run_id=run.id,
    )


def _left(standing: Standing) -> Attention | None:
    run = standing.last_run
    if run is None or run.state is not RunState.PARTLY:
        return None
    return _about(
        standing,
        cause=Cause.LEFT,
        urgency=30,
        since=run.ended_at,
        reason="The last cleaning left something that should have gone",
        evidence=run.reason,
        next_step=NextStep.LOOK,
        run_id=run.id,
    )


def _waits_for_yes(standing: Standing) -> Attention | None:
    waits = standing.waits_for_yes
    if waits is None or not waits.count:
        return None
    return _about(
        standing,
        cause=Cause.WAITS_FOR_YES,
        urgency=40,
        since=standing.looked_at,
        reason="A listing waits for a yes",
        evidence=f"{count(waits.count, 'file')}, {show_size(waits.size)}",
        next_step=NextStep.DECIDE,
    )


def _silent(standing: Standing) -> Attention | None:
    seen = standing.machine.seen_at
    if not standing.machine.enrolled or seen is None or standing.now - seen < SILENT_AFTER:
        return None
    return _about(
        standing,
        cause=Cause.SILENT,
        urgency=50,
        since=seen,
        reason="Has not called",
        evidence=f"Last heard of {show_age(seen, standing.now)}",
        next_step=NextStep.ASK_CLIENT,
    )


def _always_left(standing: Standing) -> Attention | None:
    often = standing.left_often
    if often is None:
        return None
    others = f" and {count(often.items - 1, 'other')}" if often.items > 1 else ""
    return _about(
        standing,
        cause=Cause.ALWAYS_LEFT,
        urgency=45,
        since=often.since,
        reason=f"The same is left by every cleaning, {count(often.times, 'time')} by now",
        evidence=f"{often.path}{others}, {show_size(often.size)}: {often.reason}",
        next_step=NextStep.LOOK,
    )


CAUSES: tuple[Finder, ...] = (
    _nearly_full,
    _run_failed,
    _missed,
    _silent,
    _waits_for_yes,
    _always_left,
    _left,
)


def needs_you(standings: Iterable[Standing]) -> list[Attention]:
    """Everything that needs a person, most urgent first; ties by machine tag."""
    found = (
        attention
        for standing in standings
        for cause in CAUSES
        if (attention := cause(standing)) is not None
    )
    return sorted(found, key=lambda a: (-a.urgency, a.machine_tag))
