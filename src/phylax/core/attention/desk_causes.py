"""Causes for attention that come of visits: what is late, and what nobody fetches."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, time

from phylax.core.attention.findings import Cause, Finding, MachineCondition, NextStep, finding
from phylax.core.desk.open_visit import REMIND_AFTER, late_in_words
from phylax.core.ground.quantities import count


def visit_overdue(standing: MachineCondition) -> Iterator[Finding]:
    """What was to be done until a day is not done."""
    visit = standing.open_visit
    if visit is None or visit.overdue_since is None:
        return
    todo = f": {visit.todo}" if visit.todo else ""
    yield finding(
        standing,
        cause=Cause.VISIT_OVERDUE,
        urgency=60,
        grade=(standing.now.date() - visit.overdue_since).days,
        since=_begin(visit.overdue_since),
        reason=f"Visit {visit.visit} is overdue",
        evidence=f"{visit.waiting_for.capitalize()}{todo}",
        next_step=NextStep.SEE_VISIT,
    )


def part_late(standing: MachineCondition) -> Iterator[Finding]:
    """A part has not come by the day it was expected."""
    visit = standing.open_visit
    if visit is None or visit.late_since is None:
        return
    yield finding(
        standing,
        cause=Cause.PART_LATE,
        urgency=55,
        grade=(standing.now.date() - visit.late_since).days // 7,
        since=_begin(visit.late_since),
        reason=f"Visit {visit.visit} waits for a part",
        evidence=late_in_words(visit.late_parts),
        next_step=NextStep.SEE_VISIT,
    )


def not_fetched(standing: MachineCondition) -> Iterator[Finding]:
    """Mail does not help any more, or there was none: somebody has to ring."""
    visit = standing.open_visit
    if visit is None or visit.ready_at is None:
        return
    ready_for = standing.now - visit.ready_at
    if ready_for < (REMIND_AFTER[-1] if visit.was_mailed else REMIND_AFTER[0]):
        return
    by_mail = f"reminded {count(visit.reminded, 'time')} by mail" if visit.was_mailed else (
        "nobody was told by mail"
    )  # fmt: skip
    yield finding(
        standing,
        cause=Cause.NOT_FETCHED,
        urgency=45,
        grade=ready_for.days // 30,
        since=visit.ready_at,
        reason=f"Ready for {count(ready_for.days, 'day')}, and not fetched",
        evidence=f"Visit {visit.visit}; {by_mail}",
        next_step=NextStep.SEE_VISIT,
    )


def _begin(day: date) -> datetime:
    return datetime.combine(day, time(), UTC)
