"""`phylax sign-in`: sign in to a service."""

from __future__ import annotations

import click

from phylax.cli._session import Session, pass_session


@click.command("sign-in")
@click.option("--login", prompt=True)
@click.option("--password", prompt=True, hide_input=True)
@pass_session
def command(session: Session, login: str, password: str) -> None:
    """Sign in; a token for this command line is kept in your configuration."""
    from phylax.client import sign_in

    token = sign_in(session.url, login, password)
    path = session.save(session.url, token)
    click.echo(f"Signed in to {session.url}; kept in {path}.")
