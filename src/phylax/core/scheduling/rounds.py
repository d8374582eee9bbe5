"""Rounds: a routine that recurs. For which machines, when, inside which window, and what if not."""

from __future__ import annotations

from datetime import date, time, timedelta
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field, field_validator, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.names import Name
from phylax.core.ground.values import Demand, Moment, Span, Value
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.scheduling.plain_words import Spoken, read_words
from phylax.core.scheduling.recurrence import RecurrenceRule, how_often

_MANY = 10_000


class Described(NamedTuple):
    """A machine as far as a choice of machines looks at it."""

    id: int
    client_id: int
    tag: str
    client_name: str
    system: str
    make: str
    model: str


class MachineFilter(Demand):
    """Machines by what they are; also those that are taken in later."""

    systems: tuple[System, ...] = ()
    words: Annotated[
        str, Field(max_length=100, description="In tag, client, make or model, as one reads them")
    ] = ""

    def takes(self, machine: Described) -> bool:
        if self.systems and machine.system not in self.systems:
            return False
        text = f"{machine.tag} {machine.client_name} {machine.make} {machine.model}".casefold()
        return all(word in text for word in self.words.casefold().split())


class Pressure(Demand):
    """Run also when a volume is short of space."""

    below_percent: Annotated[int, Field(ge=1, le=50, description="Free space, share of a volume")]
    at_most_every: Annotated[int, Field(ge=1, le=365, description="Days")] = 7


class RoundEdit(Demand):
    """A round as people make it."""

    name: Name
    routine_id: int
    recurrence: RecurrenceRule | None = Field(
        None, description="Left out: only when space is short"
    )
    at: Annotated[
        time, Field(description="Local time of day at which its window opens", examples=["18:30"])
    ]
    closes: Annotated[
        time | None,
        Field(description="When it must have ended; up to `at` it means the next day. None: open"),
    ] = None
    starts_on: Annotated[date, Field(description="The first day that counts")]
    zone_of: Literal["shop", "client"] = "shop"
    except_dates: Annotated[tuple[date, ...], Field(max_length=1000)] = ()
    on_closing_days: Literal["run", "next day", "skip"] = Field(
        "next day", description="What becomes of a time on a closing day of the shop or the client"
    )
    catch_up: Annotated[
        Span,
        Field(
            description="How long after its time a run may still start; with a window, in the "
            "windows of later days",
            examples=["PT12H"],
        ),
    ] = timedelta(hours=12)
    late_outside: bool = Field(False, description="A late run may start outside the window as well")
    spread: Annotated[
        Span, Field(description="Over how long the machines' starts are spread", examples=["PT10M"])
    ] = timedelta(minutes=10)
    pressure: Pressure | None = None
    machine_ids: Annotated[tuple[int, ...], Field(max_length=_MANY)] = ()
    client_ids: Annotated[tuple[int, ...], Field(max_length=_MANY)] = ()
    machines_like: MachineFilter | None = None
    except_machine_ids: Annotated[tuple[int, ...], Field(max_length=_MANY)] = ()
    volumes: VolumeChoice = Field(
        ALL_VOLUMES, description="On which of a machine's volumes its steps look and clean"
    )
    responsible_id: Annotated[
        int | None, Field(description="Number of the person who looks after it")
    ] = None
    paused: bool = False
    paused_until: date | None = Field(None, description="Makes nothing before this day")

    @model_validator(mode="before")
    @classmethod
    def _as_spoken(cls, fields: Any) -> Any:
        """Times and days that the words of `recurrence` say go into the fields that are theirs."""
        words = fields.get("recurrence") if isinstance(fields, dict) else None
        if not isinstance(words, str) or "=" in words:
            return fields
        try:
            spoken = read_words(words)
        except ValueError:
            return fields  # the field says what is wrong with it
        return fields | _beside(fields, spoken) | {"recurrence": spoken.rule}

    @field_validator("machine_ids", "client_ids", "except_machine_ids")
    @classmethod
    def _each_once(cls, ids: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(dict.fromkeys(ids))

    @field_validator("except_dates")
    @classmethod
    def _in_order(cls, days: tuple[date, ...]) -> tuple[date, ...]:
        return tuple(sorted(set(days)))

    @field_validator("catch_up")
    @classmethod
    def _sensible_limit(cls, span: timedelta) -> timedelta:
        if not timedelta(0) <= span <= timedelta(days=14):
            raise ValueError("the catch-up limit must lie between nothing and 14 days")
        return span

    @field_validator("spread")
    @classmethod
    def _sensible_spread(cls, span: timedelta) -> timedelta:
        if not timedelta(0) <= span <= timedelta(hours=12):
            raise ValueError("starts are spread over at most 12 hours")
        return span

    @field_validator("at", "closes")
    @classmethod
    def _local_time(cls, at: time | None) -> time | None:
        if at is None:
            return None
        if at.tzinfo is not None:
            raise ValueError("the time of day is local to the shop; leave the offset out")
        return at.replace(second=0, microsecond=0)

    @model_validator(mode="after")
    def _can_ever_run(self) -> RoundEdit:
        if self.recurrence is None and self.pressure is None:
            raise ValueError("say how often, or below which share of free space it runs")
        if self.closes is None and self.catch_up < timedelta(minutes=10):
            raise ValueError("without a window, the catch-up limit is at least 10 minutes")
        if not (self.machine_ids or self.client_ids or self.machines_like):
            raise ValueError("choose machines, clients or a filter")
        return self

    def takes(self, machine: Described) -> bool:
        """Whether a machine belongs to this round."""
        if machine.id in self.except_machine_ids:
            return False
        return (
            machine.id in self.machine_ids
            or machine.client_id in self.client_ids
            or (self.machines_like is not None and self.machines_like.takes(machine))
        )

    def often_in_words(self) -> str:
        """How often, without its time: ``every Tuesday``; words that are read as the same rule."""
        return how_often(self.recurrence) if self.recurrence else ""

    def in_words(self) -> str:
        """How often: ``every Tuesday at 18:30, or when less than 10 % is free``."""
        often = how_often(self.recurrence, self.at) if self.recurrence else ""
        if self.pressure is None:
            return often
        short = f"when less than {self.pressure.below_percent} % is free"
        return f"{often}, or {short}" if often else f"{short}, from {self.at:%H:%M}"

    def window_in_words(self) -> str:
        """``18:30 to 06:00`` or ``from 18:30``."""
        if self.closes is None:
            return f"from {self.at:%H:%M}"
        return f"{self.at:%H:%M} to {self.closes:%H:%M}"


def _beside(fields: dict[str, Any], spoken: Spoken) -> dict[str, time | date]:
    """What the words say besides how often. ValueError where a field says something else."""
    said = {"at": spoken.at, "closes": spoken.closes, "starts_on": spoken.starts_on}
    beside = {name: value for name, value in said.items() if value is not None}
    for name, value in beside.items():
        shown = f"{value:%H:%M}" if isinstance(value, time) else str(value)
        other = fields.get(name)
        # times come as "18:30" or "18:30:00"
        if other is not None and not str(other).startswith(shown):
            raise ValueError(f"the words say {shown}, {name!r} says {other}: say it once")
    return beside


class Round(Value):
    id: int
    name: str
    plan: RoundEdit
    routine_name: str
    how_often: str
    often: str = Field("", description="The same without its time, as it may be given back")
    machines: int = Field(description="How many belong to it now")
    next_at: Moment | None
    next_dates: tuple[Moment, ...] = ()
    version: int

    @property
    def paused(self) -> bool:
        return self.plan.paused


class RoundMachine(Value):
    """One machine of a round, and the round's next time on it."""

    machine_id: int
    machine_tag: str
    client_name: str
    next_at: Moment | None
    expected_duration: Span = Field(description="How long it is expected to take")
    waiting_run_id: int | None = Field(None, description="Number of the run that waits for it now")
    postponed: str = Field("", description="What was said of its next time")


class Habit(Value):
    """A machine that is seldom on when a round would run."""

    machine_id: int
    machine_tag: str
    online: int = Field(description="So often it was on in the window")
    window: int = Field(description="of so many of the last times")
    sentence: str
    proposed_at: time | None = Field(None, description="An hour at which it usually is on")
    proposed_day: str = Field("", description="On which day of the week; empty for the same days")


class RoundPreview(Value):
    """What a round would mean, before it is saved."""

    recurrence: str | None = Field(description="The recurrence rule by RFC 5545")
    how_often: str
    often: str = Field("", description="The same without its time, as it may be given back")
    next_dates: tuple[Moment, ...]
    notes: tuple[str, ...] = Field(
        (), description="What a clock change or a closing day does to these dates"
    )
    machines: int = 0
    expected_duration: Span | None = Field(
        None, description="The longest that a machine is expected to take"
    )
    seldom_on: tuple[Habit, ...] = ()
    without_volumes: tuple[str, ...] = Field(
        (), description="Tags of machines that have none of the chosen volumes"
    )
    too_long_for: tuple[str, ...] = Field(
        (), description="Tags of machines that are not expected to be through before it closes"
    )


class Postponed(Demand):
    """A round's next time for one machine, skipped or held back."""

    machine_id: int
    until: Moment | None = Field(None, description="Not before then; left out: skip it")
    comment: Annotated[str, Field(max_length=500)] = ""
