"""Rounds: work that recurs. When it is due, until when it may still start, and what was missed."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from typing import Annotated
from zoneinfo import ZoneInfo

from pydantic import Field, field_validator

from phylax.core.catalogue import catalogue
from phylax.core.recurrence import RecurrenceRule, in_words, next_dates
from phylax.core.retention import Caution
from phylax.core.runs import RunState
from phylax.core.shop import Name
from phylax.core.values import Demand, Moment, Span, Value


class RoundEdit(Demand):
    """A round as people make it."""

    name: Name
    recurrence: RecurrenceRule
    at: Annotated[time, Field(description="Local time of day", examples=["18:30"])]
    starts_on: Annotated[date, Field(description="The first day that counts")]
    catch_up: Annotated[
        Span, Field(description="How long after its time a run may still start", examples=["PT12H"])
    ] = timedelta(hours=12)
    machine_ids: Annotated[tuple[int, ...], Field(min_length=1, max_length=10_000)]
    categories: Annotated[tuple[str, ...], Field(min_length=1)]
    paused: bool = False

    @field_validator("categories")
    @classmethod
    def _only_what_may_ever_go(cls, keys: tuple[str, ...]) -> tuple[str, ...]:
        """`ask` categories go on machines with a standing consent; elsewhere they are listed."""
        may_go = [key for key, c in catalogue().items() if c.caution is not Caution.REPORT]
        for key in keys:
            if key not in may_go:
                raise ValueError(
                    f"{key!r} cannot go unattended; a round may clean {', '.join(may_go)}"
                )
        return tuple(dict.fromkeys(keys))

    @field_validator("machine_ids")
    @classmethod
    def _each_once(cls, ids: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(dict.fromkeys(ids))

    @field_validator("catch_up")
    @classmethod
    def _sensible_limit(cls, span: timedelta) -> timedelta:
        if not timedelta(minutes=10) <= span <= timedelta(days=14):
            raise ValueError("the catch-up limit must lie between 10 minutes and 14 days")
        return span

    @field_validator("at")
    @classmethod
    def _local_time(cls, at: time) -> time:
        if at.tzinfo is not None:
            raise ValueError("the time of day is local to the shop; leave the offset out")
        return at.replace(second=0, microsecond=0)

    def next_dates(self, zone: ZoneInfo, *, after: datetime, most: int = 5) -> list[datetime]:
        return next_dates(self.recurrence, self.starts_on, self.at, zone, after=after, most=most)

    def how_often(self) -> str:
        return in_words(self.recurrence, self.at)


class Round(Value):
    id: int
    name: str
    recurrence: str
    how_often: str
    at: time
    starts_on: date
    catch_up: Span
    machine_ids: tuple[int, ...]
    categories: tuple[str, ...]
    paused: bool
    next_at: Moment | None
    next_dates: tuple[Moment, ...] = ()
    version: int


class RoundPreview(Value):
    """What a round would mean, before it is saved."""

    how_often: str
    next_dates: tuple[Moment, ...]


class Due(Value):
    """One occurrence of a round for its machines, decided."""

    due_at: Moment
    until_at: Moment
    state: RunState
    reason: str = ""


def fall_due(due_at: datetime, catch_up: timedelta, now: datetime) -> Due:
    """An occurrence whose time has come: waits for its machine, or was missed already."""
    until = due_at + catch_up
    if now <= until:
        return Due(due_at=due_at, until_at=until, state=RunState.WAITING)
    return Due(
        due_at=due_at,
        until_at=until,
        state=RunState.MISSED,
        reason="the service was down until its time had passed",
    )
