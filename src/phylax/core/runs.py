"""Runs: one machine carrying out its work once, and how it ended."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field, model_validator

from phylax.core.balance import Balance, freed_on_volumes
from phylax.core.holds import HeldPick, IfTaken
from phylax.core.orders import CategoryOutcome, LeftItem, Progress, ResultMessage
from phylax.core.quantities import count, show_size
from phylax.core.shop import ReadingIn
from phylax.core.survey import Stay, Tally
from phylax.core.values import Demand, Moment, Value

Work = Literal["survey", "clean", "put back", "let go"]


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
    held: Annotated[tuple[HeldPick, ...], Field(max_length=100)] = Field(
        (), description="Held things to put back, or to let go before their time"
    )
    if_taken: IfTaken = Field(
        IfTaken.LEAVE, description="What to do where a name is taken again when putting back"
    )

    @model_validator(mode="after")
    def _cleaning_names_what(self) -> NewRun:
        about_held = self.work in ("put back", "let go")
        if self.work == "clean" and not self.categories:
            raise ValueError("a cleaning names at least one category")
        if self.work != "clean" and (self.categories or self.consent_ids):
            raise ValueError(f"categories and consents are for a cleaning, not for '{self.work}'")
        if about_held != bool(self.held):
            raise ValueError("'held' names what to put back or let go, and is for that alone")
        return self


class Conclusion(Value):
    """A result, weighed."""

    state: RunState
    reason: str
    removed: Tally
    held: Tally = Tally()
    put_back: Tally = Tally()
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
        held=sum((o.held for o in result.outcomes), Tally()),
        put_back=sum((o.put_back for o in result.outcomes), Tally()),
        left=left,
        freed=freed_on_volumes(result.before, result.after),
    )


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
    held: Tally | None = None
    put_back: Tally | None = None
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
    passes: int = 0
    uncertain: bool = False
    balance: Balance | None = Field(
        None, description="For a cleaning: promised, done, freed, and why these differ"
    )


def in_a_sentence(work: Work, conclusion: Conclusion) -> str:
    """A run's end for the record."""
    if work == "survey":
        return {
            RunState.DONE: "Looked through; nothing was touched.",
        }.get(conclusion.state, f"The look ended early: {conclusion.reason}.")
    if work == "put back":
        put_back = conclusion.put_back
        words = f"Put back {count(put_back.count, 'item')}, {show_size(put_back.size)}"
        return _with_state(words, conclusion)
    removed = conclusion.removed
    words = f"Removed {count(removed.count, 'item')}, {show_size(removed.size)}"
    if conclusion.freed is not None:
        words += f"; the volumes show {_more_free(conclusion.freed)}"
    if conclusion.held.count:
        held = conclusion.held
        words += f"; {count(held.count, 'item')}, {show_size(held.size)}, held and can be put back"
    return _with_state(words, conclusion)


def _more_free(size: int) -> str:
    return f"{show_size(abs(size))} {'more' if size >= 0 else 'less'} free"


def _with_state(words: str, conclusion: Conclusion) -> str:
    if conclusion.state is not RunState.DONE:
        words += f". {conclusion.reason[:1].upper()}{conclusion.reason[1:]}"
    return words + "."
