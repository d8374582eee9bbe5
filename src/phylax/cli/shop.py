"""`phylax shop`: the shop and its people."""

from __future__ import annotations

from pathlib import Path

import click

from phylax.cli._output import Column, console, format_option, local, print_list
from phylax.cli._session import Session, pass_session
from phylax.cli.serve import data_option


@click.group("shop")
def command() -> None:
    """The shop and its people."""


@command.command("open")
@data_option
@click.option("--name", prompt="Name of the shop")
@click.option("--zone", prompt="Time zone (as in Europe/Dublin)")
@click.option("--owner", prompt="The owner's name")
@click.option("--login", prompt="The owner's login")
@click.password_option(help="The owner's password; asked for if left out.")
def open_shop(data: Path, name: str, zone: str, owner: str, login: str, password: str) -> None:
    """Open a shop in a data directory, with its first owner."""
    from phylax.cli.serve import open_shop as open_it

    open_it(data, name, zone, owner, login, password)
    console.print(f"{name} is open. Start its service with 'phylax serve'.")


@command.command("people")
@format_option
@pass_session
def people(session: Session, form: str) -> None:
    """List the shop's people."""
    columns = (
        Column("login", lambda p: p.login),
        Column("name", lambda p: p.name),
        Column("role", lambda p: p.role),
        Column("active", lambda p: "yes" if p.active else "no"),
    )
    print_list(form, session.shop.people.list(), columns, empty="Nobody yet.")


@command.command("add-person")
@click.argument("login")
@click.option("--name", required=True)
@click.option("--role", type=click.Choice(["owner", "technician", "desk"]), required=True)
@click.password_option()
@pass_session
def add_person(session: Session, login: str, name: str, role: str, password: str) -> None:
    """Add a person who may sign in."""
    from phylax.core.people import NewPerson

    made = session.shop.people.add(
        NewPerson.model_validate({"login": login, "name": name, "role": role, "password": password})
    )
    console.print(f"{made.name} may sign in as {made.login}.")


@command.command("person")
@click.argument("login")
@click.option("--active/--inactive", required=True, help="Whether they may sign in.")
@pass_session
def set_activity(session: Session, login: str, active: bool) -> None:
    """Say whether a person may sign in."""
    person = next((p for p in session.shop.people.list() if p.login == login), None)
    if person is None:
        raise click.UsageError(f"There is nobody with the login {login!r}.")
    session.shop.people.set_activity(person.id, active)
    console.print(f"{person.name} {'may sign in' if active else 'can no longer sign in'}.")


@command.command("change-password")
@click.option("--present", prompt="Present password", hide_input=True)
@click.option("--new", prompt="New password", hide_input=True, confirmation_prompt=True)
@pass_session
def change_password(session: Session, present: str, new: str) -> None:
    """Change your own password."""
    session.shop.people.change_password(present, new)
    console.print("Changed. Sign in again where you were signed in by password.")


@command.command("tokens")
@format_option
@pass_session
def tokens(session: Session, form: str) -> None:
    """List the tokens of programs."""
    zone = session.the_shop.clock
    columns = (
        Column("token", lambda t: str(t.id), right=True),
        Column("name", lambda t: t.name),
        Column("belongs to", lambda t: t.login),
        Column("made", lambda t: local(t.made_at, zone)),
        Column("withdrawn", lambda t: local(t.withdrawn_at, zone)),
    )
    print_list(form, session.shop.people.tokens(), columns, empty="No tokens.")


@command.command("make-token")
@click.argument("name")
@pass_session
def make_token(session: Session, name: str) -> None:
    """Make a bearer token for a program; shown this once."""
    click.echo(session.shop.people.make_token(name).token)


@command.command("withdraw-token")
@click.argument("token", type=int)
@pass_session
def withdraw_token(session: Session, token: int) -> None:
    """Withdraw a token by its number."""
    session.shop.people.withdraw_token(token)
    console.print(f"Token {token} no longer counts.")


@command.command("audit")
@click.option("--most", default=40, show_default=True, help="At most so many.")
@format_option
@pass_session
def audit(session: Session, most: int, form: str) -> None:
    """What was changed, by whom; for the owner."""
    zone = session.the_shop.clock
    columns = (
        Column("when", lambda d: local(d.at, zone)),
        Column("who", lambda d: d.who),
        Column("deed", lambda d: d.deed),
        Column("subject", lambda d: d.subject),
    )
    print_list(form, session.shop.people.audit(most=most), columns, empty="Nothing yet.")
