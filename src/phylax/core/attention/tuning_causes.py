"""Causes for attention that come of tuning: what waits, what undid itself, what made it worse, what
somebody altered since."""

from __future__ import annotations

from collections.abc import Iterator

from phylax.core.attention.findings import Cause, Finding, MachineCondition, NextStep, finding
from phylax.core.ground.quantities import count
from phylax.core.tuning.starts import cost


def programs_wait(standing: MachineCondition) -> Iterator[Finding]:
    """A round has left to a person what the rules want of some programs."""
    if not standing.programs_wait:
        return
    yield finding(
        standing,
        cause=Cause.WAITS_FOR_YES,
        subject="programs",
        urgency=34,
        grade=0,
        since=None,
        reason=f"{count(standing.programs_wait, 'program')} would run otherwise, and a person "
        "has to say so",
        evidence="The last round left them as they are",
        next_step=NextStep.SEE_PROGRAMS,
    )


def change_undone(standing: MachineCondition) -> Iterator[Finding]:
    """The machine could not reach the service with a change, and went back by itself."""
    for change in standing.undone:
        yield finding(
            standing,
            cause=Cause.CHANGE_UNDONE,
            subject=":".join(part for part in change.about if part),
            urgency=55,
            grade=0,
            since=change.ended_at,
            reason=f"{change.name}: the machine undid the change by itself",
            evidence=f"Once it was {change.after}, the service could not be reached; "
            f"it {change.runs} {change.before} again",
            next_step=NextStep.SEE_PROGRAMS,
            run_id=change.run_id,
        )


def made_worse(standing: MachineCondition) -> Iterator[Finding]:
    """A trial says that starts became dearer with a change that is still in force."""
    for worse in standing.made_worse:
        yield finding(
            standing,
            cause=Cause.MADE_WORSE,
            subject=f"run {worse.run_id}",
            urgency=58,
            grade=0,
            since=worse.since,
            reason=f"{', '.join(worse.programs)}: the change made it worse",
            evidence=f"After {worse.judged.judged_after} starts: {cost(worse.judged)}. Put it back",
            next_step=NextStep.SEE_PROGRAMS,
            run_id=worse.run_id,
        )


def altered(standing: MachineCondition) -> Iterator[Finding]:
    """Something else switched a program after us."""
    for change in standing.altered:
        now = f"{change.runs} {change.drifted_to}" if change.drifted_to else "is not there any more"
        yield finding(
            standing,
            cause=Cause.ALTERED,
            subject=":".join(part for part in change.about if part),
            urgency=38,
            grade=0,
            since=change.drifted_at,
            reason=f"{change.name} {now}, though it was set to {change.after}",
            evidence="Somebody, or the program itself, altered it after the shop did",
            next_step=NextStep.SEE_PROGRAMS,
            run_id=change.run_id,
        )
