"""`phylax sign-in`: sign in to a service."""

from __future__ import annotations

import click

from phylax.cli.session.session import Session, pass_session, way


@click.command("sign-in")
@click.option("--login", prompt=True)
@click.option("--password", prompt=True, hide_input=True)
@click.option("--code", default="", help="Of the app that makes your codes, where you have one.")
@pass_session
def command(session: Session, login: str, password: str, code: str) -> None:
    """Sign in; a token for this command line is kept in your configuration."""
    from phylax.client import NotSignedInError, sign_in

    try:
        token = sign_in(session.url, login, password, code, **way())
    except NotSignedInError as refused:
        if code or not refused.kind.endswith("code-needed"):
            raise
        code = click.prompt("Code", hide_input=False)
        token = sign_in(session.url, login, password, code, **way())
    path = session.save(session.url, token)
    click.echo(f"Signed in to {session.url}; kept in {path}.")
