"""`phylax calendar`: private addresses from which calendars read the rounds."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.scheduling.calendars import Feed, FeedEdit


@click.group("calendar")
def command() -> None:
    """The rounds in your calendar: what comes, what was done, what was called off."""


@command.command("list")
@shows_list(Feed)
@pass_session
def list_feeds(session: Session, form: Form) -> None:
    """List the calendar addresses. The addresses themselves are not stored."""
    zone = session.the_shop.clock
    columns = (
        Column("number", lambda f: str(f.id), right=True),
        Column("name", lambda f: f.name),
        Column("about", lambda f: f.subject_name or "the shop"),
        Column("made", lambda f: f"{local(f.made_at, zone)}, {f.made_by}"),
        Column("read last", lambda f: local(f.read_at, zone)),
    )
    print_list(form, session.shop.calendars.list(), columns, empty="No calendar address yet.")


@command.command("add")
@click.argument("name")
@click.option("--client", help="Only what concerns this client.")
@click.option("--person", help="Only what this person looks after; login.")
@pass_session
def add(session: Session, name: str, client: str | None, person: str | None) -> None:
    """Make a private calendar address. It is shown once; who knows it can read the calendar."""
    if client and person:
        raise click.UsageError("Give --client or --person, not both.")
    edit = FeedEdit(name=name)
    if client:
        number = session.shop.clients.find(client).id
        edit = FeedEdit(name=name, about="client", subject_id=number)
    elif person:
        known = {known_person.login: known_person.id for known_person in session.shop.people.list()}
        if person not in known:
            raise click.BadParameter(f"there is nobody {person!r}", param_hint="--person")
        edit = FeedEdit(name=name, about="person", subject_id=known[person])
    made = session.shop.calendars.add(edit)
    console.print("Let your calendar read this address; it is not shown again:")
    click.echo(f"{session.shop.url.rstrip('/')}{made.path}")


@command.command("withdraw")
@click.argument("number", type=int)
@pass_session
def withdraw(session: Session, number: int) -> None:
    """Withdraw a calendar address."""
    session.shop.calendars.withdraw(number)
    console.print(f"Calendar address {number} is withdrawn.")
