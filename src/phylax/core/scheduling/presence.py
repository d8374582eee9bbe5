"""When machines are on: learnt from what they report, by the hour of the week.

A week is a whole number with a bit for each of its 168 hours, in UTC, counted from the Unix epoch;
so a time zone, or a change of it, only matters when the hours are read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, time, timedelta
from typing import NamedTuple, TypeVar
from zoneinfo import ZoneInfo

from pydantic import Field

from phylax.core.ground.values import Value, from_seconds, to_seconds
from phylax.core.scheduling.timing import Timing

HOUR = 3600
WEEK_HOURS = 168
TIMES = 12
"""So many of the last times are looked at."""
_SELDOM = 0.5
_USUAL = 0.7
_FEWEST = 3
"""With fewer times than this nothing is said."""
_DAYS = ("Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays")

_T = TypeVar("_T")
Weeks = Mapping[int, int]
"""Week number to its hours as bits."""


def place_of(at: int) -> tuple[int, int]:
    """The week of a moment in epoch seconds, and the bit of its hour."""
    week, hour = divmod(at // HOUR, WEEK_HOURS)
    return week, 1 << hour


def was_on(weeks: Weeks, hour: int) -> bool:
    """Whether a machine was on in an hour, counted from the epoch."""
    week, bit = divmod(hour, WEEK_HOURS)
    return bool(weeks.get(week, 0) >> bit & 1)


class OnAt(NamedTuple):
    was_on: int
    of: int

    @property
    def share(self) -> float:
        return self.was_on / self.of if self.of else 0.0

    @property
    def says_enough(self) -> bool:
        return self.of >= _FEWEST


class Presence(Value):
    """How often machines were on, by local day of the week and hour: 7 rows of 24 shares."""

    machines: int = Field(description="So many have told enough")
    weeks: int
    shares: tuple[tuple[float, ...], ...]


def by_hour_of_week(weeks: Weeks, zone: ZoneInfo, now: int, back: int = TIMES) -> list[list[float]]:
    """The share of the last weeks in which a machine was on: 7 days of 24 hours, local."""
    first = min(weeks, default=None)
    counts = [[[0, 0] for _ in range(24)] for _ in range(7)]
    if first is None:
        return [[0.0] * 24 for _ in range(7)]
    for hour in range(max(first * WEEK_HOURS, now // HOUR - back * WEEK_HOURS), now // HOUR):
        local = from_seconds(hour * HOUR).astimezone(zone)
        cell = counts[local.weekday()][local.hour]
        cell[0] += was_on(weeks, hour)
        cell[1] += 1
    return [[round(on / of, 3) if of else 0.0 for on, of in row] for row in counts]


def _last_days(
    timing: Timing, now: int, known_since: int, at: time
) -> Iterator[tuple[datetime, int]]:
    """The last days like those of a round, newest first: local opening, epoch second."""
    coming = []
    for occurrence in timing.after(now):
        coming.append(occurrence.day.weekday())
        if len(coming) == 14 or occurrence.opens_at > now + 28 * 86400:
            break
    wanted = set(coming) or set(range(7))
    day = from_seconds(now).astimezone(timing.zone).date()
    while True:
        day -= timedelta(days=1)
        opens = datetime.combine(day, at, timing.zone)
        if to_seconds(opens) < known_since:
            return
        if day.weekday() in wanted:
            yield opens, to_seconds(opens)


def on_in_window(timing: Timing, weeks: Weeks, now: int, known_since: int) -> OnAt:
    """How often a machine was on, at some hour, in the window of the last days like a round's."""
    plan = timing.plan
    seconds = int(plan.catch_up.total_seconds())
    if plan.closes is not None:
        day = datetime(2000, 1, 1)  # noqa: DTZ001  # any day: the length alone matters
        span = datetime.combine(day, plan.closes) - datetime.combine(day, plan.at)
        seconds = int(span.total_seconds()) % 86400 or 86400
    hours = max(1, min(seconds, 86400) // HOUR)
    return _counted(timing, weeks, now, known_since, plan.at, hours)


def _counted(
    timing: Timing, weeks: Weeks, now: int, known_since: int, at: time, hours: int
) -> OnAt:
    on = of = 0
    for _, opens in _last_days(timing, now, known_since, at):
        of += 1
        first = opens // HOUR
        on += any(was_on(weeks, hour) for hour in range(first, first + hours))
        if of == TIMES:
            break
    return OnAt(on, of)


def known_since(weeks: Weeks) -> int | None:
    """The first hour in which a machine was heard of, in epoch seconds."""
    if not weeks:
        return None
    week = min(weeks)
    return (week * WEEK_HOURS + (weeks[week] & -weeks[week]).bit_length() - 1) * HOUR


def is_seldom(on_at: OnAt) -> bool:
    return on_at.says_enough and on_at.share < _SELDOM


def propose(timing: Timing, weeks: Weeks, now: int, since: int) -> tuple[str, time] | None:
    """An hour at which a machine usually is on: on the round's own days, else on another day of
    the week. ('' for the same days, hour), or None where there is none."""

    def nearness(hour: int) -> int:
        far = abs(hour - timing.plan.at.hour)
        return -min(far, 24 - far)

    same = _best(
        ((time(h), _counted(timing, weeks, now, since, time(h), 1).share) for h in range(24)),
        lambda at: nearness(at.hour),
    )
    if same is not None:
        return "", same
    shares = by_hour_of_week(weeks, timing.zone, now)
    best = _best(
        (((day, hour), shares[day][hour]) for day in range(7) for hour in range(24)),
        lambda usual: nearness(usual[1]),
    )
    return None if best is None else (_DAYS[best[0]], time(best[1]))


def _best(shares: Iterable[tuple[_T, float]], near: Callable[[_T], int]) -> _T | None:
    usual = [(share, near(what), what) for what, share in shares if share >= _USUAL]
    if not usual:
        return None
    return max(usual, key=lambda ranked: (ranked[0], ranked[1]))[2]


def in_a_sentence(
    tag: str, timing: Timing, on_at: OnAt, proposed: tuple[str, time] | None, now: int
) -> str:
    """``museum-kiosk has been on at this hour on 1 of the last 12 Tuesdays; Tuesdays 10:00 …``."""
    days = _days_in_words(timing, now)
    when = "in this window" if timing.plan.closes else "at this hour"
    words = f"{tag} has been on {when} on {on_at.was_on} of the last {on_at.of} {days}"
    if proposed is None:
        return f"{words}; no hour of the week is one at which it usually is on"
    on = proposed[0] or ("" if days == "days" else days)
    return f"{words}; {on} {proposed[1]:%H:%M} would do".replace(";  ", "; ")


def _days_in_words(timing: Timing, now: int) -> str:
    coming: Sequence[int] = []
    for occurrence in timing.after(now):
        coming = [*coming, occurrence.day.weekday()]
        if len(coming) == 8:
            break
    return _DAYS[coming[0]] if len(set(coming)) == 1 else "days"
