"""`phylax token`: what programs sign in with."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.forms import Form, shows_list
from phylax.cli.terminal.output import Column, console, local, print_list
from phylax.core.people.accounts import Token


@click.group("token")
def command() -> None:
    """What programs sign in with."""


@command.command("list")
@shows_list(Token)
@pass_session
def list_tokens(session: Session, form: Form) -> None:
    """List the tokens of programs."""
    zone = session.the_shop.clock
    columns = (
        Column("token", lambda t: str(t.id), right=True),
        Column("name", lambda t: t.name),
        Column("good for", lambda t: t.scope),
        Column("belongs to", lambda t: t.login),
        Column("made", lambda t: local(t.made_at, zone)),
        Column("last used", lambda t: local(t.used_at, zone)),
        Column("expires", lambda t: local(t.expires_at, zone) if t.expires_at else "never"),
        Column("withdrawn", lambda t: local(t.withdrawn_at, zone)),
    )
    print_list(form, session.shop.people.tokens(), columns, empty="No tokens.")


@command.command("make")
@click.argument("name")
@click.option("--for", "scope", type=click.Choice(["read", "work", "enrol", "metrics"]),
              default="read", show_default=True,
              help="read: look at all. work: what a technician does. enrol: add machines and let "
                   "their agents in. metrics: what the service measures.")  # fmt: skip
@click.option("--days", type=click.IntRange(1, 730), default=365, show_default=True)
@pass_session
def make(session: Session, name: str, scope: str, days: int) -> None:
    """Make a token for a program; shown this once."""
    from phylax.core.people.accounts import TokenScope

    click.echo(session.shop.people.make_token(name, TokenScope(scope), days=days).token)


@command.command("withdraw")
@click.argument("token", type=int)
@pass_session
def withdraw(session: Session, token: int) -> None:
    """Withdraw a token by its number."""
    session.shop.people.withdraw_token(token)
    console.print(f"Token {token} no longer counts.")
