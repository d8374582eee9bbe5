"""`phylax trend`: free space over time, and what may come of it."""

from __future__ import annotations

from pathlib import Path

import click

from phylax.cli.session.clock import now as clock_now
from phylax.cli.session.scopes import in_words as in_words_of
from phylax.cli.session.scopes import subject, subject_options
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.drawing import draw, in_words, say
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, print_data, print_list
from phylax.core.ground.quantities import parse_span, show_share, show_size
from phylax.core.retention import Scope
from phylax.core.trends import Trend
from phylax.core.trends.outlook import Regrowth
from phylax.core.trends.points import TrendPoint
from phylax.core.trends.shop import ShopTrends, VolumeProspect, WeekFreed


@click.group("trend")
def command() -> None:
    """Free space over time, and what may come of it."""


def _trend(session: Session, machine: str, volume: str | None, span: str) -> Trend:
    try:
        since = clock_now() - parse_span(span)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--span") from error
    return session.shop.machines.trend(machine, mount=volume, since=since)


@command.command("show")
@click.argument("machine")
@click.option("--volume", help="The volume; by default the fullest.")
@click.option("--span", default="90 days", show_default=True, help="How far back.")
@shows_one(Trend, rows=TrendPoint)
@pass_session
def show(session: Session, machine: str, volume: str | None, span: str, form: Form) -> None:
    """Draw a volume's free space, with cleanings, threshold and forecast, and what it means."""
    trend = _trend(session, machine, volume, span)
    zone = session.the_shop.clock
    if print_data(form, trend, trend.points):
        return
    draw(machine, trend, zone)
    say(trend.outlook, zone)


@command.command("draw")
@click.argument("machine")
@click.argument("file", type=click.Path(dir_okay=False, writable=True, path_type=Path))
@click.option("--volume", help="The volume; by default the fullest.")
@click.option("--span", default="90 days", show_default=True, help="How far back.")
@pass_session
def picture(session: Session, machine: str, file: Path, volume: str | None, span: str) -> None:
    """Write the trend as a picture; FILE ends in .png or .svg."""
    if file.suffix not in (".png", ".svg"):
        raise click.BadParameter("write a name that ends in .png or .svg", param_hint="FILE")
    trend = _trend(session, machine, volume, span)
    if not trend.points:
        raise click.ClickException("There are no readings in this span.")
    from phylax.cli.terminal.picture import save

    save(machine, trend, session.the_shop.clock, file)
    console.print(f"Written: {file}")


@command.command("list-regrowth")
@click.argument("machine")
@shows_list(Regrowth)
@pass_session
def regrowth(session: Session, machine: str, form: Form) -> None:
    """How each category comes back on a machine after it was cleaned."""
    columns = (
        Column("category", lambda r: r.category),
        Column("name", lambda r: r.name),
        Column("comes back a day", lambda r: show_size(r.rate.likely), right=True),
        Column("from", lambda r: show_size(r.rate.low), right=True),
        Column("to", lambda r: show_size(r.rate.high), right=True),
        Column("a cleaning takes", lambda r: show_size(r.removed), right=True),
        Column("back after", lambda r: f"{r.back_in_days} days" if r.back_in_days else "–"),
        Column("seen", lambda r: str(r.cleanings), right=True),
    )
    print_list(
        form,
        session.shop.machines.regrowth(machine),
        columns,
        empty="Not seen yet: it takes a cleaning with a second look, and a survey some days later.",
    )


@command.command("set-threshold")
@click.argument("percent", required=False, type=click.IntRange(50, 99))
@click.option("--no-own", is_flag=True, help="None of its own: the client's or the shop's holds.")
@subject_options
@pass_session
def threshold(
    session: Session, percent: int | None, no_own: bool, machine: str | None, client: str | None
) -> None:
    """From how full on a volume is nearly full; with PERCENT, set it.

    For a machine, a client's machines, or the whole shop. The nearest one holds.
    """
    if percent is not None and no_own:
        raise click.UsageError("Give PERCENT or --no-own, not both.")
    scope, _ = subject(session, machine, client)
    if scope is Scope.SHOP and no_own:
        raise click.UsageError("The shop has one always; give PERCENT.")
    shop, change = session.shop, percent is not None or no_own
    current = shop.machines.get(machine) if machine else None
    owner = current.client_id if current else client
    whom = shop.clients.find(owner) if owner else None
    if change and current:
        current = shop.machines.set_threshold(current, percent)
    elif change and whom:
        whom = shop.clients.set_threshold(whom, percent)
    elif percent is not None:
        shop.set_threshold(percent)
    above, whose = shop.shop().threshold_percent, "the shop's"
    if whom and whom.threshold_percent:
        above, whose = whom.threshold_percent, f"{whom.name}'s"
    if current and current.threshold_percent:
        above, whose = current.threshold_percent, "its own"
    console.print(f"{in_words_of(scope, machine, client)}: nearly full above {above} %, {whose}")


@command.command("list-soon")
@click.option("--within", default="90 days", show_default=True, help="How far ahead.")
@shows_list(VolumeProspect)
@pass_session
def soon(session: Session, within: str, form: Form) -> None:
    """Volumes that are over their threshold, or will be soon, over the whole shop."""
    try:
        days = parse_span(within).days
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--within") from error
    zone = session.the_shop.clock

    def likely(prospect: VolumeProspect) -> str:
        at = prospect.crosses.likely if prospect.crosses else None
        return "already" if prospect.over else f"{at.astimezone(zone):%Y-%m-%d}" if at else "–"

    def between(prospect: VolumeProspect) -> str:
        return (
            f"Over {prospect.threshold_percent} %: {in_words(prospect.crosses, zone)}."
            if (prospect.crosses and not prospect.over)
            else ""
        )

    columns = (
        Column("machine", lambda p: p.machine_tag),
        Column("client", lambda p: p.client_name),
        Column("volume", lambda p: p.mount),
        Column("used", lambda p: show_share(p.capacity - p.free, p.capacity), right=True),
        Column("over", likely),
        Column("between", between, below=True),
        Column("advice", lambda p: p.advice.text if p.advice else "", below=True),
    )
    prospects = session.shop.trends.volumes(days=max(1, min(days, 730)))
    print_list(form, prospects, columns, empty="No volume will be over its threshold so soon.")


@command.command("show-shop")
@click.option("--weeks", default=12, show_default=True, type=click.IntRange(1, 26))
@shows_one(ShopTrends, rows=WeekFreed)
@pass_session
def shop(session: Session, weeks: int, form: Form) -> None:
    """What was freed by week, what costs the most, and what changed rules and routines brought."""
    trends = session.shop.trends.shop()
    if print_data(form, trends, trends.weeks[-weeks:]):
        return
    most = max((week.size for week in trends.weeks), default=0) or 1
    console.print("Freed by week")
    for week in trends.weeks[-weeks:]:
        bar = "█" * round(40 * week.size / most)
        console.print(f"  {week.monday:%Y-%m-%d} {show_size(week.size):>10} {bar}")
    console.print("\nWhat costs the most, in 26 weeks")
    for category in trends.costliest[:8]:
        console.print(f"  {show_size(category.size):>10} {category.name}")
    if trends.advised:
        console.print("\nHow often volumes are cleaned")
        for verdict, volumes in sorted(trends.advised.items(), key=lambda advised: -advised[1]):
            console.print(f"  {volumes:>10} {verdict}")
    for change in trends.changes:
        before, after = change.before, change.after
        words = f": {change.was} → {change.now}" if change.now else ""
        console.print(f"\n{change.at:%Y-%m-%d} {change.name}, {change.about}{words}")
        if not before.cleanings or not after.cleanings:
            console.print("  Not enough cleanings before or after to compare.")
            continue
        console.print(
            f"  By a cleaning: {show_size(before.freed_each)} before, "
            f"{show_size(after.freed_each)} after ({before.cleanings} and {after.cleanings})"
        )
