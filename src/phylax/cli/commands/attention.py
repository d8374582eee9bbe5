"""`phylax attention`: what needs a person, and what is done about it."""

from __future__ import annotations

import click

from phylax.cli.session.clock import now as clock_now
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.attention import Attention, Handling
from phylax.core.ground.quantities import parse_span


@click.group("attention")
def command() -> None:
    """What needs a person, and what is done about it."""


def _handled(item: Attention) -> str:
    match item.handling:
        case Handling.TAKEN:
            return f"taken on by {item.taken_by}"
        case Handling.PUT_OFF:
            return f"put off by {item.handled_by} until {item.snoozed_until:%Y-%m-%d}"
        case Handling.SETTLED:
            return f"settled by {item.handled_by}: {item.comment}"
    return "comes and goes" if item.comes_and_goes else ""


@command.command("list")
@click.option("--machine", help="Only of this machine.")
@click.option("--all", "also_handled", is_flag=True, help="Also what was put off or settled.")
@shows_list(Attention)
@pass_session
def list_attention(session: Session, machine: str | None, also_handled: bool, form: Form) -> None:
    """Everything that needs a person, most urgent first."""
    zone = session.the_shop.clock
    number = session.shop.machines.get(machine).id if machine else None
    columns = (
        Column("number", lambda a: str(a.id), right=True),
        Column("machine", lambda a: a.machine_tag),
        Column("why", lambda a: a.reason, below=True),
        Column("evidence", lambda a: a.evidence, below=True),
        Column("since", lambda a: local(a.since, zone)),
        Column("next", lambda a: a.next_step),
        Column("who", _handled),
    )
    items = session.shop.attention.list(machine_id=number, also_handled=also_handled)
    print_list(form, items, columns, empty="Nothing needs attention.")


@command.command("take")
@click.argument("number", type=int)
@pass_session
def take(session: Session, number: int) -> None:
    """Take it on: you look after it."""
    item = session.shop.attention.take_on(session.shop.attention.get(number))
    console.print(f"{item.machine_tag}, {item.cause}: taken on by {item.taken_by}.")


@command.command("give-back")
@click.argument("number", type=int)
@pass_session
def give_back(session: Session, number: int) -> None:
    """Give it back: nobody looks after it, or it is not settled after all."""
    item = session.shop.attention.give_back(session.shop.attention.get(number))
    console.print(f"{item.machine_tag}, {item.cause}: open again.")


@command.command("put-off")
@click.argument("number", type=int)
@click.option("--for", "span", default="7 days", show_default=True, help="How long.")
@pass_session
def put_off(session: Session, number: int, span: str) -> None:
    """Put it off for a while. It comes back sooner if it gets worse."""
    try:
        until = clock_now() + parse_span(span)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--for") from error
    item = session.shop.attention.put_off(session.shop.attention.get(number), until)
    zone = session.the_shop.clock
    console.print(
        f"{item.machine_tag}, {item.cause}: put off until {local(item.snoozed_until, zone)}."
    )


@command.command("settle")
@click.argument("number", type=int)
@click.argument("comment")
@pass_session
def settle(session: Session, number: int, comment: str) -> None:
    """Settle it. WORD says how, and is written to the machine's record."""
    item = session.shop.attention.settle(session.shop.attention.get(number), comment)
    console.print(f"{item.machine_tag}, {item.cause}: settled. It comes back when it gets worse.")
