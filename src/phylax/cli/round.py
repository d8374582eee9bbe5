"""`phylax round`: work that recurs."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta

import click

from phylax.cli._output import Column, console, format_option, local, print_list
from phylax.cli._session import Session, pass_session
from phylax.core.quantities import parse_span
from phylax.core.rounds import RoundEdit

_DAYS = {
    "monday": "MO", "tuesday": "TU", "wednesday": "WE", "thursday": "TH",
    "friday": "FR", "saturday": "SA", "sunday": "SU",
}  # fmt: skip


@click.group("round")
def command() -> None:
    """Work that recurs."""


@command.command("list")
@format_option
@pass_session
def list_rounds(session: Session, form: str) -> None:
    """List the rounds."""
    zone = session.the_shop.clock
    columns = (
        Column("round", lambda r: str(r.id), right=True),
        Column("name", lambda r: r.name),
        Column("how often", lambda r: r.how_often),
        Column("machines", lambda r: str(len(r.machine_ids)), right=True),
        Column("cleans", lambda r: ", ".join(r.categories)),
        Column("next", lambda r: "paused" if r.paused else local(r.next_at, zone)),
    )
    print_list(form, session.shop.rounds.list(), columns, empty="No rounds yet.")


@command.command("add")
@click.argument("name")
@click.option("--machine", "machines", multiple=True, required=True, help="Tag; repeat for more.")
@click.option("--category", "categories", multiple=True, required=True, help="Repeat for more.")
@click.option("--weekly-on", type=click.Choice(list(_DAYS)), multiple=True, help="Day of the week.")
@click.option("--monthly-on", type=click.IntRange(1, 31), help="Date in the month.")
@click.option("--rule", help="Any recurrence rule by RFC 5545, as in 'FREQ=MONTHLY;BYDAY=-1FR'.")
@click.option(
    "--at", type=click.DateTime(["%H:%M"]), required=True, help="Time of day, as in 18:30."
)
@click.option("--from", "starts", type=click.DateTime(["%Y-%m-%d"]), help="First day; else today.")
@click.option("--catch-up", default="12 hours", show_default=True, help="How late it may start.")
@click.option("--dry-run", is_flag=True, help="Show the next dates; save nothing.")
@pass_session
def add_round(
    session: Session,
    name: str,
    machines: tuple[str, ...],
    categories: tuple[str, ...],
    weekly_on: tuple[str, ...],
    monthly_on: int | None,
    rule: str | None,
    at: datetime,
    starts: datetime | None,
    catch_up: str,
    dry_run: bool,
) -> None:
    """Make a round NAME."""
    recurrence = _recurrence(weekly_on, monthly_on, rule)
    zone = session.the_shop.clock
    edit = RoundEdit(
        name=name,
        recurrence=recurrence,
        at=time(at.hour, at.minute),
        starts_on=starts.date() if starts else _today(session),
        catch_up=_catch_up(catch_up),
        machine_ids=tuple(session.shop.machines.get(tag).id for tag in machines),
        categories=categories,
    )
    if dry_run:
        shown = session.shop.rounds.preview(edit)
        console.print(f"{name}: {shown.how_often}")
        dates = shown.next_dates
    else:
        made = session.shop.rounds.add(edit)
        console.print(f"Round {made.id}, {made.name}: {made.how_often}")
        dates = made.next_dates
    for next_at in dates:
        console.print(f"  {local(next_at, zone)}")


def _recurrence(weekly_on: tuple[str, ...], monthly_on: int | None, rule: str | None) -> str:
    given = [bool(weekly_on), monthly_on is not None, rule is not None]
    if sum(given) != 1:
        raise click.UsageError("Say how often: one of --weekly-on, --monthly-on or --rule.")
    if rule is not None:
        return rule
    if weekly_on:
        return "FREQ=WEEKLY;BYDAY=" + ",".join(_DAYS[day] for day in weekly_on)
    return f"FREQ=MONTHLY;BYMONTHDAY={monthly_on}"


def _today(session: Session) -> date:
    return datetime.now(session.the_shop.clock).date()


def _catch_up(text: str) -> timedelta:
    try:
        return parse_span(text)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--catch-up") from error


@command.command("end")
@click.argument("round", type=int)
@pass_session
def end_round(session: Session, round: int) -> None:
    """End a round; what it did stays in the record."""
    session.shop.rounds.end(round)
    console.print(f"Round {round} recurs no more.")
