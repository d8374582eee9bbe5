"""`phylax closing-days`: when the shop or a client is closed."""

from __future__ import annotations

from datetime import datetime

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, print_list
from phylax.cli.terminal.types import DAY
from phylax.core.clients.shop import ClosingDays, ClosingDaysEdit


@click.group("closing-days")
def command() -> None:
    """When the shop or a client is closed: rounds move or leave these days out."""


@command.command("list")
@shows_list(ClosingDays)
@pass_session
def list_days(session: Session, form: Form) -> None:
    """List the closing days, in order."""
    columns = (
        Column("number", lambda d: str(d.id), right=True),
        Column("first", lambda d: f"{d.first}"),
        Column("last", lambda d: f"{d.last}"),
        Column("name", lambda d: d.name),
        Column("whose", lambda d: d.client_name or "the shop"),
    )
    print_list(form, session.shop.closing_days.list(), columns, empty="No closing days.")


@command.command("add")
@click.argument("name")
@click.argument("first", type=DAY)
@click.argument("last", type=DAY, required=False)
@click.option("--client", help="Only this client.")
@pass_session
def add(
    session: Session, name: str, first: datetime, last: datetime | None, client: str | None
) -> None:
    """Close from FIRST to LAST, both included, as in 2026-12-24."""
    edit = ClosingDaysEdit(
        client_id=session.shop.clients.find(client).id if client else None,
        first=first.date(),
        last=(last or first).date(),
        name=name,
    )
    made = session.shop.closing_days.add(edit)
    console.print(f"{made.name}: {made.client_name or 'the shop'} is closed from {made.first} "
                  f"to {made.last}.")  # fmt: skip


@command.command("remove")
@click.argument("number", type=int)
@pass_session
def remove(session: Session, number: int) -> None:
    """Remove closing days: the shop is open after all."""
    session.shop.closing_days.remove(number)
    console.print(f"Closing days {number} are gone.")
