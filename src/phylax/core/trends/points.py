"""Trends of free space: from readings to a line that can be drawn and keeps its extremes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from pydantic import Field

from phylax.core.ground.values import Moment, Value
from phylax.core.trends.outlook import DAY, Outlook, VolumeLine


class Reading(NamedTuple):
    """One measurement: epoch seconds, capacity, lowest, highest and last free bytes of its time."""

    at: int
    capacity: int
    low: int
    high: int
    free: int


class TrendPoint(Value):
    at: Moment
    capacity: int
    free: int
    low: int
    high: int


class Cleaning(Value):
    """A cleaning on the trend's span."""

    run_id: int
    at: Moment
    freed: int | None


class Trend(Value):
    volume_id: int
    mount: str
    since: Moment
    until: Moment
    points: tuple[TrendPoint, ...]
    cleanings: tuple[Cleaning, ...]
    threshold_percent: int
    lines: tuple[VolumeLine, ...] = Field(
        (), description="Stretches in which it was one and the same volume"
    )
    outlook: Outlook | None = None


class FreeLine(Value):
    """A volume's free space, one share (0 to 1) for each step of a span, None where unknown."""

    volume_id: int
    machine_id: int
    shares: tuple[float | None, ...]


def in_passing(readings: Sequence[tuple[int, int]]) -> list[int]:
    """Of (time, free) in order, the times of those that are neither the last of their hour nor the
    first lowest or highest of their day (UTC)."""
    hours = [at // 3600 for at, _ in readings]
    within = [n for n, hour in enumerate(hours[:-1]) if hour == hours[n + 1]]
    if not within:
        return []
    low: dict[int, tuple[int, int]] = {}
    high: dict[int, tuple[int, int]] = {}
    for point in readings:
        day, free = point[0] // DAY, point[1]
        if free < low.setdefault(day, point)[1]:
            low[day] = point
        if free > high.setdefault(day, point)[1]:
            high[day] = point
    kept = {at for at, _ in (*low.values(), *high.values())}
    return [readings[n][0] for n in within if readings[n][0] not in kept]


def condense(readings: Sequence[Reading], most: int) -> list[Reading]:
    """At most `most` readings of a span in order, each with the extremes of what it stands for.

    The first and the last reading stay as they are; in between, equal stretches of time are folded
    into their last value with the lowest and highest free of the stretch.
    """
    if len(readings) <= most or most < 3:
        return list(readings)
    begin, end = readings[0].at, readings[-1].at
    width = max(1, (end - begin) / (most - 2))
    folded: list[Reading] = [readings[0]]
    stretch = -1
    for reading in readings[1:-1]:
        number = int((reading.at - begin) / width)
        if number != stretch:
            folded.append(reading)
            stretch = number
            continue
        last = folded[-1]
        folded[-1] = reading._replace(
            low=min(last.low, reading.low), high=max(last.high, reading.high)
        )
    folded.append(readings[-1])
    return folded


def condense_points(trend: Trend, columns: int) -> list[TrendPoint | None]:
    """A trend's points on so many columns of equal time; the last of each, None where unknown."""
    points: list[TrendPoint | None] = [None] * columns
    width = (trend.until - trend.since).total_seconds() / columns
    for point in trend.points:
        column = min(columns - 1, int((point.at - trend.since).total_seconds() / width))
        if column >= 0:
            points[column] = point
    return points
