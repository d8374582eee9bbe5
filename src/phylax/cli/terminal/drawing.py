"""A trend drawn in the terminal, with cleanings, threshold, what may come, and sudden changes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

from phylax.cli.terminal.output import console, local
from phylax.core.ground.quantities import show_share, show_size
from phylax.core.trends import ConePoint, Crossing, Outlook, Trend, TrendPoint, condense_points

_PAST, _AHEAD = 48, 16
_HEIGHT = 12
_LABEL = 11
_OFF_FOR = timedelta(days=7)
"""A machine that is off keeps its level; what is silent for longer is left empty."""


def draw(machine: str, trend: Trend, zone: ZoneInfo) -> None:
    if not trend.points:
        console.print("No readings in this span.")
        return
    last = trend.points[-1]
    console.print(
        f"{machine}, {trend.mount}  {show_size(last.free)} free of {show_size(last.capacity)} "
        f"({show_share(last.capacity - last.free, last.capacity)} used)"
    )
    ahead = _ahead(trend)
    past = _held_level(condense_points(trend, _PAST), trend)
    limit = last.capacity * (100 - trend.threshold_percent) // 100
    known = [p for p in past if p is not None]
    top = max([p.high for p in known] + [high for _, _, high in ahead.values()])
    bottom = min([limit, *(p.low for p in known), *(low for low, _, _ in ahead.values())])
    step = max(1, (top - bottom) / _HEIGHT)
    limit_row = _row(limit, bottom, step)
    for row in range(_HEIGHT, 0, -1):
        level = bottom + step * (row - 0.5)
        empty = "╌" if row == limit_row else " "
        cells = "".join("█" if p and (p.free >= level or row == 1) else empty for p in past)
        cells += "".join(
            _cell(ahead.get(column), row, bottom, step, empty) for column in range(_AHEAD)
        )
        label = {_HEIGHT: show_size(top), 1: show_size(bottom)}.get(row, "")
        if row == limit_row:
            label = f"{trend.threshold_percent} % used"
        console.print(f"{label:>{_LABEL}} │{cells}".rstrip())
    console.print(f"{'':>{_LABEL}} └{'─' * _PAST}{'┄' * (_AHEAD if ahead else 0)}")
    _marks("cleaned", "▲", (cleaning.at for cleaning in trend.cleanings), trend)
    if trend.outlook is not None:
        _marks("sudden", "◆", (change.at for change in trend.outlook.sudden), trend)
    _marks("new line", "┃", (line.began_at for line in trend.lines[1:]), trend)
    begin, now = local(trend.since, zone), local(trend.until, zone)
    end = ""
    if ahead and trend.outlook:
        end = f"{_ends(trend).astimezone(zone):%Y-%m-%d}"
    console.print(f"{'':>{_LABEL}}  {begin:<{_PAST - 16}}{now}{end:>{_AHEAD}}".rstrip())


def _held_level(points: list[TrendPoint | None], trend: Trend) -> list[TrendPoint | None]:
    """Columns in which a machine was off stand as high as the one before."""
    width = (trend.until - trend.since) / len(points)
    held: list[TrendPoint | None] = []
    for number, point in enumerate(points):
        before = held[-1] if held else None
        known = point
        if point is None and before is not None:
            off = trend.since + width * number - before.at
            known = before if off < _OFF_FOR else None
        held.append(known)
    return held


def say(outlook: Outlook | None, zone: ZoneInfo) -> None:
    """What can be said of a volume, in sentences."""
    if outlook is None:
        console.print("\nNothing can be said yet.")
        return
    if outlook.not_yet:
        console.print(f"\nNothing can be said yet: {outlook.not_yet}.")
        return
    assert outlook.fill_rate is not None
    fills = outlook.fill_rate
    console.print(
        f"\nFills by {_signed(fills.likely)} a day ({_signed(fills.low)} to {_signed(fills.high)})"
        + (
            f" between cleanings; a cleaning gives {show_size(outlook.freed_each or 0)} back, "
            f"every {outlook.cleaned_every_days:.0f} days"
            if outlook.cleaned_every_days
            else ""
        )
        + "."
    )
    if outlook.over:
        console.print(f"Over {outlook.threshold_percent} % already.")
    elif outlook.crosses:
        console.print(f"Over {outlook.threshold_percent} %: {in_words(outlook.crosses, zone)}.")
    if outlook.full:
        console.print(f"Full: {in_words(outlook.full, zone)}.")
    if outlook.changed:
        grown = ", ".join(f"{g.name} by {show_size(g.size)}" for g in outlook.changed.grown)
        console.print(
            f"Since {local(outlook.changed.since, zone)} it fills by "
            f"{_signed(outlook.changed.now)} a day instead of {_signed(outlook.changed.before)}"
            + (f"; what grew: {grown}." if grown else ".")
        )
    for change in outlook.sudden:
        grown = ", ".join(f"{g.name} {_signed(g.size)}" for g in change.grown)
        console.print(
            f"Sudden, {local(change.at, zone)}: {_signed(change.size)}"
            + (f" ({grown})" if grown else "" if change.looked else " (not looked at around it)")
        )
    if outlook.advice:
        console.print(f"Advice: {outlook.advice.text}")


def in_words(crossing: Crossing, zone: ZoneInfo) -> str:
    """Soonest, likely and latest day."""
    if crossing.soonest is None:
        return "not within two years"

    def day(at: datetime) -> str:
        return f"{at.astimezone(zone):%Y-%m-%d}"

    soonest = day(crossing.soonest)
    if crossing.latest and soonest == day(crossing.latest):
        return f"on {soonest}"
    likely = f"likely {day(crossing.likely)}" if crossing.likely else "likely not within two years"
    latest = f"latest {day(crossing.latest)}" if crossing.latest else "perhaps much later"
    return f"{likely}, soonest {soonest}, {latest}"


def _signed(size: int) -> str:
    return f"-{show_size(-size)}" if size < 0 else show_size(size)


def _row(level: float, bottom: float, step: float) -> int:
    return min(_HEIGHT, max(1, int((level - bottom) / step) + 1))


def _ends(trend: Trend) -> datetime:
    """So far ahead as a third of the past that is shown, two weeks at least."""
    return trend.until + max(timedelta(days=14), (trend.until - trend.since) / 3)


def _ahead(trend: Trend) -> dict[int, tuple[int, int, int]]:
    """Low, likely and high free of each column to come."""
    cone = trend.outlook.cone if trend.outlook else ()
    if not cone or trend.until < trend.points[-1].at:
        return {}
    width = (_ends(trend) - trend.until) / _AHEAD
    last = trend.points[-1]
    whole = (ConePoint(at=last.at, low=last.free, likely=last.free, high=last.free), *cone)
    return {
        column: between(whole, trend.until + width * (column + 0.5)) for column in range(_AHEAD)
    }


def between(cone: Sequence[ConePoint], at: datetime) -> tuple[int, int, int]:
    """Low, likely and high at a time, on straight lines between the points."""
    for point, other in pairwise(cone):
        if at <= other.at:
            share = max(0.0, (at - point.at) / (other.at - point.at))
            return (
                int(point.low + share * (other.low - point.low)),
                int(point.likely + share * (other.likely - point.likely)),
                int(point.high + share * (other.high - point.high)),
            )
    last = cone[-1]
    return last.low, last.likely, last.high


def _cell(
    levels: tuple[int, int, int] | None, row: int, bottom: float, step: float, empty: str
) -> str:
    if levels is None:
        return " "
    low, likely, high = (_row(level, bottom, step) for level in levels)
    if row == likely:
        return "•"
    return "░" if low <= row <= high else empty


def _marks(name: str, mark: str, times: Iterable[datetime], trend: Trend) -> None:
    cells = [" "] * _PAST
    width = (trend.until - trend.since).total_seconds()
    for at in times:
        place = int((at - trend.since).total_seconds() / width * (_PAST - 1))
        if 0 <= place < _PAST:
            cells[place] = mark
    if mark in cells:
        console.print(f"{name:>{_LABEL}}  {''.join(cells)}".rstrip())
