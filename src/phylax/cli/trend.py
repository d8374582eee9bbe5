"""`phylax trend`: free space over time."""

from __future__ import annotations

from datetime import UTC, datetime

import click

from phylax.cli._output import Column, console, format_option, local, print_list
from phylax.cli._session import Session, pass_session
from phylax.core.quantities import parse_span, show_share, show_size
from phylax.core.trends import Trend, condense_points

_WIDTH = 72
_HEIGHT = 12


@click.group("trend")
def command() -> None:
    """Free space over time."""


@command.command("show")
@click.argument("machine")
@click.option("--volume", help="Which volume; the fullest if left out.")
@click.option("--span", default="90 days", show_default=True, help="How far back.")
@format_option
@pass_session
def show(session: Session, machine: str, volume: str | None, span: str, form: str) -> None:
    """Draw a volume's free space; cleanings are marked below."""
    try:
        since = datetime.now(UTC) - parse_span(span)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--span") from error
    trend = session.shop.machines.trend(machine, mount=volume, since=since)
    zone = session.the_shop.clock
    if form == "table":
        _draw(machine, trend, zone)
        return
    columns = (
        Column("at", lambda p: p.at.isoformat()),
        Column("capacity", lambda p: str(p.capacity), right=True),
        Column("free", lambda p: str(p.free), right=True),
        Column("lowest", lambda p: str(p.low), right=True),
        Column("highest", lambda p: str(p.high), right=True),
    )
    print_list(form, trend.points, columns, empty="No readings in this span.")


def _draw(machine: str, trend: Trend, zone: object) -> None:
    from zoneinfo import ZoneInfo

    assert isinstance(zone, ZoneInfo)
    if not trend.points:
        console.print("No readings in this span.")
        return
    columns = condense_points(trend, _WIDTH)
    known = [p for p in columns if p is not None]
    top = max(p.high for p in known)
    bottom = min(p.low for p in known)
    height = max(1, top - bottom)
    last = trend.points[-1]
    console.print(
        f"{machine}, {trend.mount}  {show_size(last.free)} free of {show_size(last.capacity)} "
        f"({show_share(last.capacity - last.free, last.capacity)} used)"
    )
    for row in range(_HEIGHT, 0, -1):
        level = bottom + height * (row - 0.5) / _HEIGHT
        label = {_HEIGHT: show_size(top), 1: show_size(bottom)}.get(row, "")
        cells = "".join("█" if p and (p.free >= level or row == 1) else " " for p in columns)
        console.print(f"{label:>10} │{cells}")
    marks = [" "] * _WIDTH
    width = (trend.until - trend.since).total_seconds()
    for cleaning in trend.cleanings:
        place = int((cleaning.at - trend.since).total_seconds() / width * (_WIDTH - 1))
        marks[place] = "▲"
    console.print(f"{'':>10} └{'─' * _WIDTH}")
    console.print(f"{'cleaned':>10}  {''.join(marks)}")
    console.print(f"{'':>10}  {local(trend.since, zone):<{_WIDTH - 16}}{local(trend.until, zone)}")
