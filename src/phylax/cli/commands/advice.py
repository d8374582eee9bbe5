"""`phylax advice`: what clients are told to buy or do, and what became of it."""

from __future__ import annotations

from datetime import datetime

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.cli.terminal.types import DAY
from phylax.core.desk.advice import AdviceEdit, AdviceKind, AdviceStatus, GivenAdvice


@click.group("advice")
def command() -> None:
    """What clients are told to buy or do, and what became of it."""


@command.command("list")
@click.argument("machine")
@shows_list(GivenAdvice)
@pass_session
def list_advice(session: Session, machine: str, form: Form) -> None:
    """Advice about MACHINE: what is open first."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda a: str(a.id), right=True),
        Column("advice", lambda a: a.kind),
        Column("is", lambda a: a.status),
        Column("by", lambda a: f"{a.by}, {local(a.at, zone)}"),
        Column("what", lambda a: a.text, below=True),
        Column("goes by", lambda a: "; ".join(f"{f.name} {f.value}" for f in a.figures),
               below=True),
    )  # fmt: skip
    empty = f"Nothing is advised about {machine}."
    print_list(form, session.shop.upkeep.advice(machine), columns, empty=empty)


@command.command("give")
@click.argument("machine")
@click.argument("kind", type=click.Choice([str(kind) for kind in AdviceKind]))
@click.argument("text")
@pass_session
def give(session: Session, machine: str, kind: str, text: str) -> None:
    """Write down advice of a KIND that was given about MACHINE, in a TEXT."""
    given = session.shop.upkeep.advise(machine, AdviceEdit(kind=AdviceKind(kind), text=text))
    console.print(f"Advice {given.id} is written down as told.")


@command.command("set-status")
@click.argument("number", type=int)
@click.argument("status", type=click.Choice([str(status) for status in AdviceStatus]))
@click.option("--comment", default="", help="As the client put it.")
@click.option(
    "--again-on",
    type=DAY,
    help="Declined: not asked again before that day.",
)
@pass_session
def status(
    session: Session, number: int, status: str, comment: str, again_on: datetime | None
) -> None:
    """Say what became of advice NUMBER."""
    again = again_on.date() if again_on else None
    after = session.shop.upkeep.set_status(number, AdviceStatus(status), comment, again_on=again)
    console.print(f"Advice {after.id}, {after.kind}: {after.status}.")
