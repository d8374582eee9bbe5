"""The front door: where the service is, who one is, and which nouns there are."""

from __future__ import annotations

import importlib
import sys
from typing import Any

import click

from phylax import __version__
from phylax.cli.argument_completion import complete_names, name_arguments
from phylax.cli.examples import show_examples
from phylax.cli.session.session import (
    EXIT_REFUSED,
    EXIT_STOPPED,
    EXIT_UNREACHABLE,
    EXIT_USAGE,
    Session,
)
from phylax.core.ground.suggestions import did_you_mean

_EXTRAS = {
    **dict.fromkeys(
        (
            "PIL", "argon2", "defusedxml", "fastapi", "filelock", "http_message_signatures",
            "icalendar", "jinja2", "numpy", "prometheus_client", "pyotp", "pyrage",
            "pythonjsonlogger", "segno", "typst", "uvicorn", "webauthn", "zxcvbn",
        ),
        "service",
    ),
    "aiosmtpd": "demo",
    "matplotlib": "picture",
}  # fmt: skip
"""By package: with which part of Phylax it is installed."""

_NOUNS = {
    "advice": "what clients are told to buy or do",
    "agenda": "what runs where, when and how long",
    "attention": "what needs a person, and what is done about it",
    "agent": "the Phylax program on a client's machine",
    "backup": "copies of the shop's file, and putting one back",
    "calendar": "the rounds in your calendar",
    "catalogue": "the kinds of files that can be removed",
    "closing-days": "when the shop or a client is closed",
    "check": "disks, malware, updates and more, and what was found",
    "client": "the shop's clients",
    "consent": "who agreed to what",
    "completion": "completion for your shell",
    "demo": "the made-up shop",
    "hold": "what can still be put back",
    "installed": "programs on machines, and removing one",
    "machine": "clients' computers",
    "notice": "who is told of what, by mail and hooks",
    "person": "the shop's people, and yourself",
    "program": "startup programs on machines, and what is known of it",
    "protect": "what is protected",
    "question": "what is asked once of a client, and decides about settings",
    "record": "the maintenance records",
    "report": "what a client gets to read",
    "round": "work that recurs",
    "routine": "lists of steps that are done together",
    "rule": "retention rules",
    "run": "cleanings and looks, done now",
    "search": "everything that the shop knows",
    "serve": "start the shop's service",
    "setting": "settings of machines, and what is wanted of them",
    "shop": "the shop as a whole",
    "sign-in": "sign in to a service",
    "survey": "what a survey found",
    "today": "what needs attention",
    "token": "what programs sign in with",
    "trend": "free space over time, and what may come",
    "update": "what machines lack, and installing it",
    "upkeep": "disks arranged, file systems repaired, restarts",
    "visit": "machines that are in hand",
}


def finish(command: click.Command, path: str) -> None:
    """What all commands have alike: names are completed, and help ends with an example."""
    complete_names(command)
    name_arguments(command)
    show_examples(command, path)


class _Nouns(click.Group):
    """Loads a noun's module when it is asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_NOUNS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in _NOUNS:
            return None
        module = importlib.import_module(f"phylax.cli.commands.{name.replace('-', '_')}")
        command: click.Command = module.command
        finish(command, name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in _NOUNS and not args[0].startswith("-"):
            meant = did_you_mean(args[0], _NOUNS)
            ctx.fail(f"There is no {args[0]!r} here{meant} See 'phylax --help'.")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Nouns"):
            formatter.write_dl(list(_NOUNS.items()))


@click.command(cls=_Nouns, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("--url", envvar="PHYLAX_URL", help="Address of the service.")
@click.option(
    "--token-file",
    envvar="PHYLAX_TOKEN_FILE",
    type=click.Path(dir_okay=False),
    help="File that holds a bearer token.",
)
@click.version_option(__version__, prog_name="phylax")
@click.pass_context
def _phylax(ctx: click.Context, url: str | None, token_file: str | None) -> None:
    """Recurring cleanup and upkeep of client computers, for a repair shop.

    Ends with 0 when all went well, 1 when the answer is no or something on this computer is in the
    way, 2 for wrong usage, 3 when the service cannot be reached, 4 when it refuses, 5 when a run
    left something behind, 6 when a run failed or was not done, 130 after Ctrl-C.
    """
    ctx.obj = Session(url, token_file)


def main() -> None:
    """Run the command line; errors end it with a sentence, not with a traceback."""
    try:
        result: Any = _phylax.main(standalone_mode=False, prog_name="phylax")
        sys.exit(result if isinstance(result, int) else 0)
    except click.exceptions.Abort:
        click.echo("Stopped; nothing more was asked for.", err=True)
        sys.exit(EXIT_STOPPED)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except Exception as error:  # noqa: BLE001 - what is not ours is raised again
        sys.exit(_explain(error))


def _explain(error: Exception) -> int:
    """Say what a failed call means and what to do; the exit code. Anything else is raised again."""
    # only now, so that start-up does not wait for the client library
    from pydantic import ValidationError

    from phylax.client import ClearHttpError, PhylaxError, RefusedError, UnreachableError

    if isinstance(error, ModuleNotFoundError) and (extra := _EXTRAS.get(error.name or "")):
        click.echo(
            f"This part of Phylax is not installed here. Install the wheel again with it: "
            f"pip install 'phylax_workshop-{__version__}-py3-none-any.whl[{extra}]'",
            err=True,
        )
        return EXIT_USAGE
    if isinstance(error, ClearHttpError):
        click.echo(f"{error} (PHYLAX_CLEAR_HTTP=yes)", err=True)
        return EXIT_USAGE
    if isinstance(error, UnreachableError):
        click.echo(f"{error}\nDoes it run? Start it with 'phylax serve', or give --url.", err=True)
        return EXIT_UNREACHABLE
    if isinstance(error, ValidationError):
        for wrong in error.errors():
            field = ".".join(str(part) for part in wrong["loc"])
            text = str(wrong["msg"]).removeprefix("Value error, ")
            click.echo(f"{field}: {text}" if field else text, err=True)
        return EXIT_USAGE
    if not isinstance(error, PhylaxError):
        raise error
    click.echo(str(error), err=True)
    if isinstance(error, RefusedError) and error.status == 401:
        click.echo("Sign in with 'phylax sign-in', or give --token-file.", err=True)
    return EXIT_REFUSED
