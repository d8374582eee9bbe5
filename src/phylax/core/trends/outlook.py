"""What can be said of a volume: how fast it fills, when it will be over, what to do about it.

Values only, so that whoever merely shows them needs no numerics.
"""

from __future__ import annotations

from enum import StrEnum

from pydantic import Field

from phylax.core.ground.values import Moment, Value

DAY = 86400
HORIZON_DAYS = 730
"""Nothing is said beyond two years."""
CHANCE = 0.8
"""The truth is meant to lie between soonest and latest this often."""


class Rate(Value):
    """Bytes a day; the truth is meant to lie between low and high in eight of ten cases."""

    low: int
    likely: int
    high: int


class Crossing(Value):
    """When a level is reached; a time that is absent lies more than two years ahead."""

    soonest: Moment | None = None
    likely: Moment | None = None
    latest: Moment | None = None


class ConePoint(Value):
    """Free bytes at a time to come; 80 % of the forecasts lie between low and high."""

    at: Moment
    low: int
    likely: int
    high: int


class Grown(Value):
    """What a category grew by, or shrank where negative."""

    category: str
    name: str = Field("", description="The category's, in words")
    size: int


class SuddenChange(Value):
    """A change of used space that is no part of steady filling."""

    at: Moment
    size: int = Field(description="Bytes; negative where space came free without a cleaning")
    grown: tuple[Grown, ...] = Field(
        (), description="Categories that changed between the two surveys around it, largest first"
    )
    looked: bool = Field(False, description="Whether there are surveys before and after it")


class PaceChange(Value):
    """Since when a volume fills at another pace, for good."""

    since: Moment
    before: int = Field(description="Bytes a day, net")
    now: int
    grown: tuple[Grown, ...] = Field(
        (), description="Categories that changed between the surveys before it and now"
    )
    looked: bool = False


class VolumeLine(Value):
    """A stretch in which a volume stayed the same one."""

    began_at: Moment
    capacity: int
    why: str = Field("", description="What was different from before; empty for the first")


class Help(StrEnum):
    """What keeps a volume below its threshold."""

    NOTHING_NEEDED = "nothing needed"
    CLEANING = "cleaning"
    OTHER_VOLUME = "the other volume"
    ARCHIVE = "an archive"
    LARGER_DISK = "a larger disk"
    RULE = "another rule"
    LOOK = "a survey"


class IntervalVerdict(StrEnum):
    RIGHT = "as it should be"
    TOO_OFTEN = "more than needed"
    TOO_SELDOM = "not enough"
    NONE_YET = "not cleaned regularly"
    CANNOT_HELP = "cleaning cannot help"


class Advice(Value):
    """Every how many weeks to clean, or what helps instead, with the reasoning."""

    weeks: int | None = Field(description="1, 2, 4, 8 or 12; absent where cleaning cannot help")
    now_weeks: float | None = Field(description="What it is cleaned at, by the last cleanings")
    verdict: IntervalVerdict
    helps: Help
    text: str


class Outlook(Value):
    """A volume's prospects, as of its newest reading."""

    volume_id: int
    machine_id: int
    mount: str
    made_at: Moment
    read_at: Moment
    threshold_percent: int
    not_yet: str = Field("", description="Why nothing can be said; else empty")
    fill_rate: Rate | None = Field(None, description="Between cleanings")
    net: Rate | None = Field(None, description="With what cleanings take away")
    cleaned_every_days: float | None = None
    freed_each: int | None = Field(None, description="By a cleaning, as a rule")
    over: bool = Field(False, description="It is over its threshold already")
    over_since: Moment | None = None
    crosses: Crossing | None = Field(None, description="The threshold")
    full: Crossing | None = None
    cone: tuple[ConePoint, ...] = ()
    sudden: tuple[SuddenChange, ...] = ()
    changed: PaceChange | None = None
    advice: Advice | None = None


class Regrowth(Value):
    """How a category comes back on one machine after it was cleaned."""

    category: str
    name: str
    cleanings: int = Field(description="After so many of them it was looked at again")
    rate: Rate = Field(description="By which it comes back")
    removed: int = Field(description="By one cleaning, as a rule")
    back_in_days: int | None = Field(
        None, description="After so many days four fifths were back; absent: not seen yet"
    )
