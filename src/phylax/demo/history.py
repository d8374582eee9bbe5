"""Four hundred days of a machine: its free space, its cleanings, what was missed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from functools import cache
from random import Random
from zoneinfo import ZoneInfo

from phylax.core.scheduling.recurrence import occurrences
from phylax.demo.scenario import MachineSpec, On, RoundSpec, VolumeSpec
from phylax.demo.tree import GIB

DAYS = 400
HOURLY_DAYS = 90


@dataclass(frozen=True)
class Occurrence:
    """One time that a round was due on a machine, and when it was done; None: missed."""

    round_name: str
    due_at: datetime
    done_at: datetime | None


def occurrences_of(
    spec: MachineSpec, round_: RoundSpec, now: datetime, zone: ZoneInfo, random: Random
) -> Iterator[Occurrence]:
    """Every occurrence up to now: done when the machine was next on within the limit."""
    began = now - timedelta(days=round_.began_days_ago)
    starts_on = began.astimezone(zone).date()
    at = time.fromisoformat(round_.at)
    for due in occurrences(round_.recurrence, starts_on, at, zone, after=began):
        if due > now - timedelta(hours=1):
            return
        done = due + timedelta(minutes=random.randint(1, 9))
        until = due + round_.catch_up
        while done <= until and not spec.on(done.astimezone(zone)):
            done += timedelta(hours=1)
        if done > now - timedelta(minutes=30) and until >= now:
            return
        yield Occurrence(round_.name, due, done if done <= until else None)


@dataclass(frozen=True)
class Point:
    at: datetime
    free: int


@dataclass(frozen=True)
class Freed:
    """A cleaning on a volume: free before and after."""

    at: datetime
    before: int
    after: int
    round_name: str


def volume_history(
    spec: MachineSpec,
    volume: VolumeSpec,
    cleaned: list[Occurrence],
    now: datetime,
    zone: ZoneInfo,
    random: Random,
) -> tuple[list[Point], list[Freed]]:
    """Readings (daily, then hourly while the machine is on) and cleanings, ending at its now.

    What people keep grows steadily, what can be cleaned grows with use and falls with each
    cleaning; the whole is shifted so that it ends at the volume's present use.
    """
    begin = now - timedelta(days=DAYS)
    done = sorted((o.done_at, o.round_name) for o in cleaned if o.done_at)
    used = 0.0
    junk = random.uniform(0, 20) * volume.junk
    points: list[tuple[datetime, float]] = []
    jumps: list[tuple[datetime, float, float, str]] = []
    at = begin
    hour = timedelta(hours=1)
    while at <= now:
        local = at.astimezone(zone)
        is_on = spec.on(local)
        if is_on:
            busy = 24 / _hours_on(spec.on, local.weekday(), local.day == 1)
            own = volume.own
            if volume.lately and now - at < timedelta(days=volume.lately[0]):
                own = volume.lately[1]
            used += own / 24 * busy * random.uniform(0.2, 1.8)
            junk += volume.junk / 24 * busy * random.uniform(0.1, 1.9)
        while done and done[0][0] <= at:
            when, name = done.pop(0)
            gone = junk * spec.recovers
            jumps.append((when, used + junk, used + junk - gone, name))
            junk -= gone
        hourly = now - at < timedelta(days=HOURLY_DAYS)
        if (hourly and is_on) or (not hourly and local.hour == 12):
            points.append((at, used + junk))
        at += hour
    shift = volume.capacity * volume.used_now - (used + junk)

    def free(amount: float) -> int:
        return max(0, int((volume.capacity - amount - shift) * GIB))

    return (
        [Point(when, free(amount)) for when, amount in points],
        [Freed(when, free(high), free(low), name) for when, high, low, name in jumps],
    )


@cache
def _hours_on(on: On, weekday: int, is_first: bool) -> int:
    """How many hours of such a day a machine is on, so that its daily rates come out as given."""
    day = next(
        d
        for d in (datetime(2026, 1, 1) + timedelta(days=n) for n in range(400))  # noqa: DTZ001
        if d.weekday() == weekday and (d.day == 1) == is_first
    )
    return sum(on(day + timedelta(hours=hour)) for hour in range(24)) or 1
