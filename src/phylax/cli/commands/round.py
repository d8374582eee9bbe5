"""`phylax round`: work that recurs."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from itertools import islice
from typing import Any, TypeVar

import click

from phylax.cli.session.clock import now as clock_now
from phylax.cli.session.session import Session, pass_session
from phylax.cli.session.volumes import volume_options
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import LOOK_HERE, Column, console, local, print_list
from phylax.cli.terminal.types import DAY, MOMENT, TIME_OF_DAY
from phylax.core.ground.quantities import count, parse_span, show_moment, show_span
from phylax.core.ground.suggestions import did_you_mean
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.runs.runs import Run
from phylax.core.scheduling.plain_words import Spoken, read_words
from phylax.core.scheduling.rounds import (
    Habit,
    MachineFilter,
    Pressure,
    Round,
    RoundEdit,
    RoundPreview,
)

F = TypeVar("F", bound=Callable[..., Any])
_ON_CLOSED = {"run": "run", "next-day": "next day", "skip": "skip"}


class SpanType(click.ParamType[timedelta]):
    """A span of time as people write it."""

    name = "span"

    def convert(self, value: Any, param: Any, ctx: Any) -> timedelta:
        if isinstance(value, timedelta):
            return value
        try:
            return parse_span(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)


@click.group("round")
def command() -> None:
    """Work that recurs."""


@command.command("list")
@shows_list(Round)
@pass_session
def list_rounds(session: Session, form: Form) -> None:
    """List the rounds."""
    zone = session.the_shop.clock
    columns = (
        Column("round", lambda r: str(r.id), right=True),
        Column("name", lambda r: r.name),
        Column("routine", lambda r: r.routine_name),
        Column("how often", lambda r: r.how_often),
        Column("window", lambda r: r.plan.window_in_words()),
        Column("machines", lambda r: str(r.machines), right=True),
        Column("volumes", lambda r: r.plan.volumes.in_words() or "all"),
        Column("next", lambda r: "paused" if r.paused else local(r.next_at, zone)),
    )
    print_list(form, session.shop.rounds.list(), columns, empty="No rounds yet.")


def _choice_options(command: F) -> F:
    """Which machines."""
    for option in (
        click.option("--except-machine", "excepted", multiple=True, help="Tag; not this one."),
        click.option("--like", help="Words in tag, client, make or model; also later machines."),
        click.option(
            "--system",
            "systems",
            type=click.Choice(["windows", "macos", "linux"]),
            multiple=True,
            help="Only machines of this system; also later ones.",
        ),
        click.option("--client", "clients", multiple=True, help="All machines of a client."),
        click.option("--machine", "machines", multiple=True, help="Tag; repeat for more."),
    ):
        command = option(command)
    return command


@command.command("add")
@click.argument("name")
@click.option("--routine", required=True, help="Number or name of the routine.")
@_choice_options
@volume_options
@click.option(
    "--often",
    help="How often, as in 'every Tuesday', 'the last Friday of every month', or a recurrence "
    "rule by RFC 5545; also with its time, as in 'weekdays at 18:30'. Left out: only when space is "
    "short.",
)
@click.option(
    "--at", type=TIME_OF_DAY, help="When it may start, as in 18:30; or say it in --often."
)
@click.option("--closes", type=TIME_OF_DAY, help="When it must have ended, as in 06:00.")
@click.option("--from", "starts", type=DAY, help="First day; else today.")
@click.option("--catch-up", type=SpanType(), default="12 hours", show_default=True,
              help="How long after its time it may still start.")  # fmt: skip
@click.option("--late-outside", is_flag=True, help="A late run may start outside the window.")
@click.option("--spread", type=SpanType(), default="10 minutes", show_default=True,
              help="Over how long the machines' starts are spread.")  # fmt: skip
@click.option("--but-not-on", "but_not", type=DAY, multiple=True,
              help="A day left out; repeat for more.")  # fmt: skip
@click.option("--on-closing-days", "on_closed", type=click.Choice(list(_ON_CLOSED)),
              default="next-day", show_default=True)  # fmt: skip
@click.option("--clients-time", is_flag=True, help="Times are in the client's time zone.")
@click.option("--when-below", "below", type=click.IntRange(1, 50),
              help="Also when less than so many per cent of a volume are free.")  # fmt: skip
@click.option("--at-most-every", type=click.IntRange(1, 365), default=7, show_default=True,
              help="Days between two such runs.")  # fmt: skip
@click.option("--dry-run", is_flag=True, help="Show what it would mean; save nothing.")
@pass_session
def add_round(
    session: Session,
    name: str,
    routine: str,
    machines: tuple[str, ...],
    clients: tuple[str, ...],
    systems: tuple[Any, ...],
    like: str | None,
    excepted: tuple[str, ...],
    volumes: VolumeChoice,
    often: str | None,
    at: time | None,
    closes: time | None,
    starts: datetime | None,
    catch_up: timedelta,
    late_outside: bool,
    spread: timedelta,
    but_not: tuple[datetime, ...],
    on_closed: str,
    clients_time: bool,
    below: int | None,
    at_most_every: int,
    dry_run: bool,
) -> None:
    """Make a round NAME."""
    shop = session.shop
    spoken = _spoken(often)
    if at is None and spoken.at is None:
        raise click.UsageError("Say when it may start: --at 18:30, or --often 'weekdays at 18:30'.")
    by_filter = MachineFilter(systems=systems, words=like or "") if systems or like else None
    edit = RoundEdit.model_validate(
        {
            "name": name,
            "routine_id": find_routine(session, routine),
            "recurrence": often,
            "at": at,
            "closes": closes,
            "starts_on": starts.date() if starts else spoken.starts_on or _today(session),
            "zone_of": "client" if clients_time else "shop",
            "except_dates": [day.date() for day in but_not],
            "on_closing_days": _ON_CLOSED[on_closed],
            "catch_up": catch_up,
            "late_outside": late_outside,
            "spread": spread,
            "pressure": Pressure(below_percent=below, at_most_every=at_most_every)
            if below
            else None,
            "machine_ids": [shop.machines.get(tag).id for tag in machines],
            "client_ids": [shop.clients.find(client).id for client in clients],
            "machines_like": by_filter,
            "except_machine_ids": [shop.machines.get(tag).id for tag in excepted],
            "volumes": volumes,
        }
    )
    shown = shop.rounds.preview(edit)
    if dry_run:
        console.print(f"{name}: {shown.how_often}")
    else:
        made = shop.rounds.add(edit)
        console.print(f"Round {made.id}, {made.name}: {made.how_often}")
    _tell(session, shown)


def _spoken(often: str | None) -> Spoken:
    """What --often says besides how often."""
    if often is None or "=" in often:
        return Spoken("")
    try:
        return read_words(often)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--often") from error


def _tell(session: Session, shown: RoundPreview) -> None:
    zone = session.the_shop.clock
    takes = f", about {show_span(shown.expected_duration)} each" if shown.expected_duration else ""
    console.print(f"  {count(shown.machines, 'machine')}{takes}")
    for at in shown.next_dates:
        console.print(f"  {local(at, zone)}")
    for note in shown.notes:
        console.print(f"  {note}")
    for habit in shown.seldom_on:
        console.print(f"  Seldom on: {habit.sentence}.", style=LOOK_HERE)
    if shown.without_volumes:
        tags = ", ".join(shown.without_volumes)
        console.print(f"  Has none of these volumes: {tags}.", style=LOOK_HERE)
    if shown.too_long_for:
        tags = ", ".join(shown.too_long_for)
        console.print(f"  Too long for the window: {tags}.", style=LOOK_HERE)


def find_routine(session: Session, which: str) -> int:
    """A routine by number or name."""
    if which.isdecimal():
        return int(which)
    routines = list(session.shop.routines.list())
    for routine in routines:
        if routine.name.casefold() == which.casefold():
            return routine.id
    meant = did_you_mean(which, (routine.name for routine in routines))
    raise click.BadParameter(
        f"there is no routine {which!r}{meant} See 'phylax routine list'.", param_hint="ROUTINE"
    )


def _today(session: Session) -> date:
    return clock_now().astimezone(session.the_shop.clock).date()


@command.command("list-runs")
@click.argument("round", type=int)
@click.option("--most", default=30, show_default=True, help="At most so many.")
@shows_list(Run)
@pass_session
def list_runs(session: Session, round: int, most: int, form: Form) -> None:
    """List a round's past times and what became of each, newest first."""
    zone = session.the_shop.clock
    columns = (
        Column("run", lambda r: str(r.id), right=True),
        Column("machine", lambda r: r.machine_tag),
        Column("for", lambda r: local(r.occurs_at, zone)),
        Column("state", lambda r: str(r.state)),
        Column("began", lambda r: local(r.started_at, zone)),
        Column("why", lambda r: r.reason),
    )
    runs = islice(session.shop.rounds.runs(round), most)
    print_list(form, runs, columns, empty="It has not run yet.")


@command.command("list-seldom-on")
@click.argument("round", type=int)
@shows_list(Habit)
@pass_session
def seldom_on(session: Session, round: int, form: Form) -> None:
    """List machines that are seldom on when a round runs, with a better hour."""
    columns = (
        Column("machine", lambda h: h.machine_tag),
        Column("was on", lambda h: f"{h.online} of {h.window}", right=True),
        Column("better at", lambda h: f"{h.proposed_at:%H:%M}" if h.proposed_at else "–"),
        Column("what was seen", lambda h: f"{h.sentence}.", below=True),
    )
    empty = "Every machine that has told enough is usually on in its window."
    print_list(form, session.shop.rounds.habits(round), columns, empty=empty)


@command.command("skip")
@click.argument("round", type=int)
@click.argument("machine")
@click.option("--comment", default="", help="Why.")
@pass_session
def skip(session: Session, round: int, machine: str, comment: str) -> None:
    """Skip the next time of a round for one machine."""
    current = session.shop.machines.get(machine)
    session.shop.rounds.skip(round, current.id, comment)
    console.print(f"The next time of round {round} is skipped on {current.tag}.")


@command.command("hold-back")
@click.argument("round", type=int)
@click.argument("machine")
@click.option(
    "--until", type=MOMENT, required=True,
    help="Not before then, by the shop's clock.",
)  # fmt: skip
@click.option("--comment", default="", help="Why.")
@pass_session
def hold_back(session: Session, round: int, machine: str, until: datetime, comment: str) -> None:
    """Hold back the next time of a round for one machine."""
    current = session.shop.machines.get(machine)
    moment = until.replace(tzinfo=session.the_shop.clock).astimezone(UTC)
    session.shop.rounds.hold_back(round, current.id, moment, comment)
    console.print(
        f"The next time of round {round} waits on {current.tag} until {show_moment(until)}"
    )


@command.command("pause")
@click.argument("round", type=int)
@click.option("--until", type=DAY, help="The day it goes on; else open.")
@pass_session
def pause(session: Session, round: int, until: datetime | None) -> None:
    """Pause a round, until a day or until it is resumed."""
    current = session.shop.rounds.get(round)
    pause: dict[str, Any] = (
        {"paused_until": until.date()} if until else {"paused": True, "paused_until": None}
    )
    after = session.shop.rounds.change(current, current.plan.model_copy(update=pause))
    going_on = local(after.next_at, session.the_shop.clock) if after.next_at else "when resumed"
    console.print(f"{after.name} is paused; it goes on {going_on}.")


@command.command("resume")
@click.argument("round", type=int)
@pass_session
def resume(session: Session, round: int) -> None:
    """Resume a paused round."""
    current = session.shop.rounds.get(round)
    plan = current.plan.model_copy(update={"paused": False, "paused_until": None})
    after = session.shop.rounds.change(current, plan)
    console.print(f"{after.name} goes on {local(after.next_at, session.the_shop.clock)}.")


@command.command("end")
@click.argument("round", type=int)
@click.option("--yes", is_flag=True, help="Do not ask first.")
@pass_session
def end_round(session: Session, round: int, yes: bool) -> None:
    """End a round; what it did stays in the record."""
    current = session.shop.rounds.get(round)
    console.print(
        f"{current.name}, {current.how_often}, recurs no more on "
        f"{count(current.machines, 'machine')}. A round that has ended does not come back."
    )
    ask("End it?", yes=yes)
    session.shop.rounds.end(round)
    console.print(f"Round {round} recurs no more.")
