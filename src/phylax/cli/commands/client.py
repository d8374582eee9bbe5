"""`phylax client`: the shop's clients."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import click

from phylax.cli.commands.forgetting import forget, forgotten
from phylax.cli.commands.importing import command as import_list
from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import Form, shows_list, shows_one
from phylax.cli.terminal.output import Column, console, print_list, print_one, write_archive
from phylax.core.clients.shop import Client, ClientEdit
from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.values import edit_of

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
@shows_list(Client)
@pass_session
def list_clients(session: Session, retired: bool, form: Form) -> None:
    """List the clients."""
    clients = session.shop.clients.list(retired=retired)
    print_list(form, clients, _COLUMNS, empty="No such clients." if retired else "No clients yet.")


_CONTACT_BY = click.Choice(["", "phone", "mail", "message", "in person"])


def _field_options(function: Callable[..., None]) -> Callable[..., None]:
    """What is written down of a client."""
    for option in (
        click.option("--note"),
        click.option("--agreements", help="As in 'weekly, quarterly report'."),
        click.option("--hours", help="When they can be reached."),
        click.option("--contact-by", type=_CONTACT_BY, help="How they like to be reached."),
        click.option("--phone"),
        click.option("--mail"),
        click.option("--contact", help="Whom to ask for."),
    ):
        function = option(function)
    return function


@command.command("add")
@click.argument("name")
@_field_options
@shows_one(Client)
@pass_session
def add_client(session: Session, /, name: str, form: Form, **fields: str | None) -> None:
    """Add a client."""
    named = {field: value for field, value in fields.items() if value is not None}
    made = session.shop.clients.add(ClientEdit.model_validate({"name": name, **named}))
    print_one(form, made, [("number", str(made.id)), ("name", made.name)])


@command.command("change")
@click.argument("client")
@click.option("--name")
@_field_options
@shows_one(Client)
@pass_session
def change_client(session: Session, /, client: str, form: Form, **fields: str | None) -> None:
    """Change what is written down of CLIENT; what is not named stays."""
    current = session.shop.clients.find(client)
    named = {field: value for field, value in fields.items() if value is not None}
    if not named:
        raise click.UsageError("Name what changes, as in --phone '555 0110'.")
    changed = session.shop.clients.change(current, edit_of(ClientEdit, current, **named))
    _print(form, changed)


@command.command("show")
@click.argument("client")
@shows_one(Client)
@pass_session
def show_client(session: Session, client: str, form: Form) -> None:
    """Who a client is, and how to reach them."""
    _print(form, session.shop.clients.find(client))


def _print(form: Form, client: Client) -> None:
    pairs = [
        ("number", str(client.id)),
        ("name", client.name),
        ("contact", client.contact),
        ("mail", client.mail),
        ("phone", client.phone),
        ("best reached by", client.contact_by),
        ("when", client.hours),
        ("agreements", client.agreements),
        ("note", client.note),
        ("machines", str(client.machines)),
        ("retired", f"{client.retired_at:%Y-%m-%d}" if client.retired_at else ""),
    ]
    print_one(form, client, [(name, value) for name, value in pairs if value])


command.add_command(import_list)
command.add_command(forget)
command.add_command(forgotten)


@command.command("archive")
@click.argument("client")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@pass_session
def archive(session: Session, client: str, file: Path) -> None:
    """Write everything the shop has about CLIENT into FILE, a ZIP to be handed out."""
    current = session.shop.clients.find(client)
    size = write_archive(partial(session.shop.archives.client, current.id), file)
    console.print(f"Everything about {current.name}: {show_size(size)} in {file}.")


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
    ask(f"Retire {current.name}?", yes=yes)
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
