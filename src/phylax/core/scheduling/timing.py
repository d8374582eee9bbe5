"""When a round runs: its times, closing days, windows, and each machine's place in them.

A time (`occurs_at`) is what the recurrence rule says; it names the occurrence for ever, as RFC
5545's RECURRENCE-ID does. A closing day may move its opening, never its name.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from hashlib import blake2b
from typing import NamedTuple
from zoneinfo import ZoneInfo

from phylax.core.ground.quantities import show_day
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.scheduling.recurrence import occurrences, to_utc
from phylax.core.scheduling.rounds import RoundEdit

_LOOK_BACK = timedelta(days=15)
_FARTHEST_MOVE = 14
_DAY = timedelta(days=1)


class Closed(NamedTuple):
    """Days on which the shop or a client is closed, both included."""

    first: date
    last: date


class Occurrence(NamedTuple):
    """One time of a round. Epoch seconds."""

    occurs_at: int
    opens_at: int
    day: date
    """The local day on which it opens."""
    moved: bool = False


class Stretch(NamedTuple):
    """When a run may start, and by when it must have ended. Epoch seconds."""

    opens_at: int
    closes_at: int
    """The last moment at which it may start."""
    end_by: int | None


@dataclass(frozen=True)
class Timing:
    """A round's plan in one time zone, with the closing days that count there."""

    plan: RoundEdit
    zone: ZoneInfo
    closed: tuple[Closed, ...] = ()

    def after(self, moment: int) -> Iterator[Occurrence]:
        """The occurrences that open after a moment, in order; endless unless the rule ends."""
        plan = self.plan
        if plan.recurrence is None:
            return
        begin = from_seconds(moment)
        if self.closed:
            begin -= _LOOK_BACK
        waiting: Occurrence | None = None
        for at in occurrences(plan.recurrence, plan.starts_on, plan.at, self.zone, after=begin):
            occurrence = self._placed(at)
            if occurrence is None:
                continue
            # several times that come to one day are one
            if waiting and waiting.day < occurrence.day and waiting.opens_at > moment:
                yield waiting
            waiting = occurrence
        if waiting and waiting.opens_at > moment:
            yield waiting

    def _placed(self, at: datetime) -> Occurrence | None:
        plan = self.plan
        nominal = at.astimezone(self.zone).date()
        if nominal in plan.except_dates:
            return None
        day = self._open_day(nominal)
        if day is None or (plan.paused_until and day < plan.paused_until):
            return None
        occurs_at = to_seconds(at)
        if day == nominal:
            return Occurrence(occurs_at, occurs_at, day)
        return Occurrence(occurs_at, self._local(day, plan.at), day, moved=True)

    def _open_day(self, day: date) -> date | None:
        if self.plan.on_closing_days == "run" or not self.is_closed(day):
            return day
        if self.plan.on_closing_days == "skip":
            return None
        later = (day + n * _DAY for n in range(1, _FARTHEST_MOVE + 1))
        return next((d for d in later if not self.is_closed(d)), None)

    def is_closed(self, day: date) -> bool:
        return any(closed.first <= day <= closed.last for closed in self.closed)

    def stretches(self, occurrence: Occurrence) -> tuple[Stretch, ...]:
        """When a run of an occurrence may start: its own window, and those it may catch up in."""
        plan = self.plan
        limit = occurrence.opens_at + int(plan.catch_up.total_seconds())
        if plan.closes is None:
            return (Stretch(occurrence.opens_at, limit, None),)
        own = self._window(occurrence.day)
        open_times = [Stretch(occurrence.opens_at, own, own)]
        if plan.late_outside:
            if limit > own:
                open_times.append(Stretch(own, limit, None))
            return tuple(open_times)
        day = occurrence.day + _DAY
        while (opens := self._local(day, plan.at)) <= limit:
            if plan.on_closing_days == "run" or not self.is_closed(day):
                closes = self._window(day)
                open_times.append(Stretch(opens, min(closes, limit), closes))
            day += _DAY
        return tuple(open_times)

    def from_now(self, now: int) -> Occurrence | None:
        """An occurrence for reasons other than the calendar: now, or when the window next opens."""
        plan = self.plan
        today = from_seconds(now).astimezone(self.zone).date()
        if plan.closes is None:
            return Occurrence(now, now, today)
        for n in range(-1, _FARTHEST_MOVE + 1):
            day = today + n * _DAY
            if self._open_day(day) != day or self._window(day) <= now:
                continue
            return Occurrence(now, max(now, self._local(day, plan.at)), day)
        return None

    def _window(self, day: date) -> int:
        """When the window that opens on a day closes."""
        closes = self.plan.closes
        assert closes is not None
        return self._local(day if closes > self.plan.at else day + _DAY, closes)

    def _local(self, day: date, at: time) -> int:
        return to_seconds(to_utc(datetime.combine(day, at), self.zone))

    def told(self, occurrence: Occurrence) -> str:
        """What the calendar or the clock did to this time; empty where nothing."""
        nominal = from_seconds(occurrence.occurs_at).astimezone(self.zone)
        notes = []
        if occurrence.moved:
            notes.append(
                f"{show_day(nominal)} is a closing day: moved to {show_day(occurrence.day)}"
            )
        local = from_seconds(occurrence.opens_at).astimezone(self.zone)
        if local.time().replace(microsecond=0) != self.plan.at:
            notes.append(
                f"on {show_day(occurrence.day)} the clocks skip {self.plan.at:%H:%M}: "
                f"it is {local:%H:%M}"
            )
        elif local.replace(fold=1).utcoffset() != local.replace(fold=0).utcoffset():
            notes.append(
                f"on {show_day(occurrence.day)} the clocks show {self.plan.at:%H:%M} twice: "
                "the first"
            )
        return "; ".join(notes)


def first_start(
    stretches: Sequence[Stretch], spread: timedelta, takes: timedelta, round_id: int, machine: int
) -> int:
    """When a machine may start first: its place in the spread, the same every time.

    Nobody is placed so late that the work would not fit the window any more.
    """
    first = stretches[0]
    room = int(spread.total_seconds())
    if first.end_by is not None:
        room = min(room, first.end_by - first.opens_at - int(takes.total_seconds()))
    room = min(room, first.closes_at - first.opens_at)
    if room <= 0:
        return first.opens_at
    digest = blake2b(f"{round_id}/{machine}".encode(), digest_size=8).digest()
    return first.opens_at + int.from_bytes(digest) * (room + 1) // 2**64


def fits(stretch: Stretch, now: int, takes: timedelta) -> bool:
    """Whether a run may start now: inside its stretch, and through before it must have ended."""
    if not stretch.opens_at <= now <= stretch.closes_at:
        return False
    return stretch.end_by is None or now + int(takes.total_seconds()) <= stretch.end_by


def ever_fits(stretches: Sequence[Stretch], takes: timedelta) -> bool:
    return any(fits(stretch, stretch.opens_at, takes) for stretch in stretches)
