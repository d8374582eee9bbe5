"""Runs: one machine carrying out its work once, and how it ended."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import Literal

from pydantic import Field, model_validator

from phylax.core.orders import CategoryOutcome, LeftItem, Progress, ResultMessage
from phylax.core.quantities import count, show_size
from phylax.core.shop import ReadingIn
from phylax.core.survey import Stay, Tally
from phylax.core.values import Demand, Moment, Value

Work = Literal["survey", "clean"]


class RunState(StrEnum):
    WAITING = "waiting"
    OFFERED = "offered"
    RUNNING = "running"
    DONE = "done"
    PARTLY = "partly"
    FAILED = "failed"
    MISSED = "missed"
    CALLED_OFF = "called off"

    @property
    def has_ended(self) -> bool:
        return self in ENDED


ENDED = frozenset(
    {RunState.DONE, RunState.PARTLY, RunState.FAILED, RunState.MISSED, RunState.CALLED_OFF}
)


class NewRun(Demand):
    """Work asked for by a person, to be done as soon as the machine calls."""

    machine_id: int
    work: Work
    categories: tuple[str, ...] = Field(
        (), description="What to clean; empty for a survey, which looks at every category"
    )
    consent_ids: tuple[int, ...] = Field((), description="Consents for `ask` categories")

    @model_validator(mode="after")
    def _cleaning_names_what(self) -> NewRun:
        if self.work == "clean" and not self.categories:
            raise ValueError("a cleaning names at least one category")
        if self.work == "survey" and (self.categories or self.consent_ids):
            raise ValueError("a survey looks at every category; leave categories and consents out")
        return self


class Conclusion(Value):
    """A result, weighed."""

    state: RunState
    reason: str
    removed: Tally
    left: tuple[Stay, ...]
    freed: int | None = Field(description="Bytes more free on the volumes, after against before")


def conclude(result: ResultMessage) -> Conclusion:
    """What state a run ends in: `partly` when something stood in the way of what should go."""
    removed = sum((o.removed for o in result.outcomes), Tally())
    left = tuple(stay for o in result.outcomes for stay in o.left)
    stuck = sum(stay.count for stay in left if stay.reason.should_have_gone)
    unread = sum(o.unread_count for o in result.outcomes)
    state, reason = RunState.DONE, ""
    if result.called_off:
        state, reason = RunState.CALLED_OFF, "called off while it ran"
    elif result.error:
        state, reason = RunState.FAILED, result.error
    elif stuck or unread:
        parts = [f"{count(stuck, 'item')} left"] if stuck else []
        parts += [f"{count(unread, 'folder')} could not be read"] if unread else []
        state, reason = RunState.PARTLY, "; ".join(parts)
    return Conclusion(
        state=state,
        reason=reason,
        removed=removed,
        left=left,
        freed=freed_on_volumes(result.before, result.after),
    )


def freed_on_volumes(before: Iterable[ReadingIn], after: Iterable[ReadingIn]) -> int | None:
    """Bytes more free after than before over the volumes in both; None without any."""
    free_before = {reading.mount: reading.free for reading in before}
    gains = [r.free - free_before[r.mount] for r in after if r.mount in free_before]
    return sum(gains) if gains else None


class Run(Value):
    id: int
    machine_id: int
    machine_tag: str
    client_name: str
    work: Work
    categories: tuple[str, ...] = ()
    state: RunState
    reason: str = ""
    round_id: int | None = None
    round_name: str | None = None
    made_by: str
    made_at: Moment
    due_at: Moment
    until_at: Moment | None = Field(None, description="Later than this it does not start")
    started_at: Moment | None = None
    ended_at: Moment | None = None
    progress: Progress | None = None
    expected: Tally | None = None
    removed: Tally | None = None
    freed: int | None = None
    survey_id: int | None = None
    second_look_id: int | None = None


class RunDetail(Run):
    """A run with everything that became of it."""

    outcomes: tuple[CategoryOutcome, ...] = ()
    left: tuple[LeftItem, ...] = ()
    before: tuple[ReadingIn, ...] = ()
    after: tuple[ReadingIn, ...] = ()
    resumed: int = 0


def in_a_sentence(work: Work, conclusion: Conclusion) -> str:
    """A run's end for the record."""
    if work == "survey":
        return {
            RunState.DONE: "Looked through; nothing was touched.",
        }.get(conclusion.state, f"The look ended early: {conclusion.reason}.")
    removed = conclusion.removed
    words = f"Removed {count(removed.count, 'item')}, {show_size(removed.size)}"
    if conclusion.freed is not None:
        words += f"; the volumes show {show_size(conclusion.freed)} more free"
    if conclusion.state is not RunState.DONE:
        words += f". {conclusion.reason[:1].upper()}{conclusion.reason[1:]}"
    return words + "."
