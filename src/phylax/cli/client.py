"""`phylax client`: the shop's clients."""

from __future__ import annotations

import click

from phylax.cli._output import Column, console, format_option, print_list, print_one
from phylax.cli._session import Session, pass_session
from phylax.core.quantities import count
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
@click.option("--retired", is_flag=True, help="Only those that are retired.")
@format_option
@pass_session
def list_clients(session: Session, retired: bool, form: str) -> None:
    """List the clients."""
    clients = session.shop.clients.list(retired=retired)
    print_list(form, clients, _COLUMNS, empty="No such clients." if retired else "No clients yet.")


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


@command.command("retire")
@click.argument("client")
@click.option("--why", default="", help="As in 'moved away'; it stands in the record.")
@click.option("--yes", is_flag=True, help="Without asking.")
@pass_session
def retire(session: Session, client: str, why: str, yes: bool) -> None:
    """The shop looks after CLIENT and all its machines no more; says first what that means."""
    current = session.shop.clients.find(client)
    meaning = session.shop.clients.retirement(current.id)
    if meaning.machines:
        console.print(f"With it: {', '.join(meaning.machines)}.")
    for sentence in meaning.in_words:
        console.print(sentence)
    if not yes:
        click.confirm(f"Retire {current.name}?", abort=True)
    session.shop.clients.retire(current, why)
    console.print(f"{current.name} is retired. 'phylax client return {current.id}' undoes it.")


@command.command("return")
@click.argument("client")
@pass_session
def bring_back(session: Session, client: str) -> None:
    """CLIENT is looked after again, with the machines that were retired with it."""
    current = session.shop.clients.find(client)
    meaning = session.shop.clients.retirement(current.id)
    session.shop.clients.bring_back(current)
    console.print(f"{current.name} is back, with {count(len(meaning.machines), 'machine')}.")
    for sentence in meaning.in_words:
        console.print(sentence)
