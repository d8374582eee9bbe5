"""`phylax agenda`: what runs where, when and how long."""

from __future__ import annotations

from datetime import datetime, timedelta

import click

from phylax.cli.session.clock import now as clock_now
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import LOOK_HERE, console, print_list
from phylax.cli.terminal.types import DAY
from phylax.core.ground.quantities import count, show_day, show_span
from phylax.core.scheduling.agenda import AgendaLine


@click.command("agenda")
@click.option("--from", "since", type=DAY, help="First day; else now.")
@click.option("--days", default=7, show_default=True, type=click.IntRange(1, 400))
@click.option("--client", help="Only at this client's.")
@shows_list(AgendaLine)
@pass_session
def command(
    session: Session, since: datetime | None, days: int, client: str | None, form: Form
) -> None:
    """What runs, or ran, where, when and how long, and what gets in its way."""
    zone = session.the_shop.clock
    begin = since.replace(tzinfo=zone) if since else clock_now().astimezone(zone)
    agenda = session.shop.rounds.agenda(
        since=begin,
        until=begin + timedelta(days=days),
        client_id=session.shop.clients.find(client).id if client else None,
    )
    if not form.is_table:
        print_list(form, agenda.lines, (), empty="")
        return
    if not agenda.lines:
        console.print("Nothing runs in that time.")
    day = None
    for line in agenda.lines:
        local = line.opens_at.astimezone(zone)
        if local.date() != day:
            day = local.date()
            console.print(f"\n{local:%A} {show_day(local)} {local:%Y}", style="bold")
        console.print(f"  {_when(line, local)}  {line.round_name}: {_where(line)}")
        for clash in line.clashes:
            console.print(f"               look here: {clash}", style=LOOK_HERE)
        if line.note:
            console.print(f"               {line.note}")


def _when(line: AgendaLine, local: datetime) -> str:
    ends = line.ends_at.astimezone(local.tzinfo)
    return f"{local:%H:%M}–{ends:%H:%M}"


def _where(line: AgendaLine) -> str:
    who = ", ".join(client.client_name for client in line.clients[:3])
    more = len(line.clients) - 3
    if more > 0:
        who += f" and {count(more, 'other')}"
    words = f"{count(line.machines, 'machine')}, {who}"
    if line.states:
        words += "; " + ", ".join(f"{n} {state}" for state, n in sorted(line.states.items()))
    elif line.closes_at is not None:
        words += f"; window {show_span(line.closes_at - line.opens_at)}"
    return f"{words}; called off" if line.cancelled else words
