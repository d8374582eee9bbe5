"""`phylax client`: the shop's clients."""

from __future__ import annotations

import click

from phylax.cli._output import Column, format_option, print_list, print_one
from phylax.cli._session import Session, pass_session
from phylax.core.shop import ClientEdit

_COLUMNS = (
    Column("number", lambda c: str(c.id), right=True),
    Column("name", lambda c: c.name),
    Column("contact", lambda c: c.contact),
    Column("mail", lambda c: c.mail),
    Column("machines", lambda c: str(c.machines), right=True),
)


@click.group("client")
def command() -> None:
    """The shop's clients."""


@command.command("list")
@format_option
@pass_session
def list_clients(session: Session, form: str) -> None:
    """List the clients."""
    print_list(form, session.shop.clients.list(), _COLUMNS, empty="No clients yet.")


@command.command("add")
@click.argument("name")
@click.option("--contact", default="", help="Whom to ask for.")
@click.option("--mail", default="")
@click.option("--phone", default="")
@click.option("--note", default="")
@format_option
@pass_session
def add_client(
    session: Session, name: str, contact: str, mail: str, phone: str, note: str, form: str
) -> None:
    """Add a client."""
    made = session.shop.clients.add(
        ClientEdit(name=name, contact=contact, mail=mail, phone=phone, note=note)
    )
    print_one(form, made, [("number", str(made.id)), ("name", made.name)])
