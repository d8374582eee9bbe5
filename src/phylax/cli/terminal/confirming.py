"""A yes before something is done."""

from __future__ import annotations

import sys

import click


def ask(question: str, *, yes: bool) -> None:
    """Go on after a yes, or because `--yes` said it before; else nothing is done."""
    if yes:
        return
    try:
        click.confirm(question, abort=True, err=True)
    except click.Abort:
        if not sys.stdin.isatty():
            raise click.UsageError(
                "Nobody is here to be asked, so nothing was done: say --yes to do it."
            ) from None
        raise
