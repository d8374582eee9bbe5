"""Completion of names that only the service knows: tags, clients, categories, rounds, routines.

What an argument is called says what completes it. The shell waits while it is asked, so the service
is given little time, and whatever goes wrong completes nothing.
"""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Iterable
from itertools import islice

import click
from click.shell_completion import CompletionItem

from phylax.cli.session.session import Session
from phylax.core.catalogue import catalogue

_PATIENCE = 2.0
_MOST = 200
_MOST_ASKED = 2000


Names = Iterable[tuple[str, str]]
"""Names, and what is shown beside each."""
Source = Callable[[Session, str], Names]
"""What there is for what was begun; more may come than fits it."""


class _Completed(click.types.StringParamType):
    """A text that the service completes."""

    def __init__(self, source: Source) -> None:
        self._source = source

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        return _items(ctx, self._source, incomplete)


class _CompletedNumber(click.types.IntParamType):
    """A number that the service completes, with what it stands for beside it."""

    def __init__(self, source: Source) -> None:
        self._source = source

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        return _items(ctx, self._source, incomplete)


def _items(ctx: click.Context, source: Source, incomplete: str) -> list[CompletionItem]:
    root = ctx.find_root().params
    session = Session(root.get("url"), root.get("token_file"), timeout=_PATIENCE, retries=0)
    # a name with spaces is begun with a quote
    begun = incomplete.strip("'\"").casefold()
    try:
        fitting = [
            CompletionItem(_in_shell(name), help=beside)
            for name, beside in islice(source(session, begun), _MOST_ASKED)
            if name.casefold().startswith(begun) and name.isprintable()
        ]
    except Exception:  # noqa: BLE001 - a shell that completes shows no errors
        return []
    return fitting[:_MOST]


def _in_shell(name: str) -> str:
    """A name as it may stand in a command line. Names are what somebody wrote, or took in from a
    list: nothing in them may be carried out. Only bash leaves the quoting to us."""
    is_bash = os.environ.get("_PHYLAX_COMPLETE", "").startswith("bash")
    return shlex.quote(name) if is_bash else name


def _tags(session: Session, begun: str) -> Names:
    machines = session.shop.machines.list(words=begun)
    return ((machine.tag, machine.client_name) for machine in machines)


def _clients(session: Session, begun: str) -> Names:
    return ((client.name, client.contact) for client in session.shop.clients.list(words=begun))


def _categories(session: Session, begun: str) -> Names:
    return ((category.key, category.name) for category in catalogue().values())


def _rounds(session: Session, begun: str) -> Names:
    rounds = session.shop.rounds.list()
    return ((str(planned.id), f"{planned.name}, {planned.how_often}") for planned in rounds)


def _routines(session: Session, begun: str) -> Names:
    return ((routine.name, routine.note) for routine in session.shop.routines.list())


def _logins(session: Session, begun: str) -> Names:
    return ((person.login, person.name) for person in session.shop.people.list())


_SOURCES = {
    **dict.fromkeys(("machine", "machines", "but"), _tags),
    **dict.fromkeys(("client", "clients"), _clients),
    **dict.fromkeys(("category", "categories"), _categories),
    "round": _rounds,
    "routine": _routines,
    **dict.fromkeys(("login", "person", "whom"), _logins),
}
"""By the name of an argument or option: what completes it."""


def complete_names(command: click.Command) -> None:
    """Let the arguments of a command, and of those within it, be completed."""
    if isinstance(command, click.Group):
        for inner in command.commands.values():
            complete_names(inner)
        return
    for param in command.params:
        source = _SOURCES.get(param.name or "")
        if source is None:
            continue
        if isinstance(param.type, click.types.IntParamType):
            param.type = _CompletedNumber(source)
        elif isinstance(param.type, click.types.StringParamType):
            param.type = _Completed(source)


def name_arguments(command: click.Command) -> None:
    """Let usage lines name arguments and values by a word, not by what they are made of."""
    if isinstance(command, click.Group):
        for inner in command.commands.values():
            name_arguments(inner)
    for param in command.params:
        is_choice = isinstance(param, click.Argument) and isinstance(param.type, click.Choice)
        if is_choice and param.metavar is None and param.name:
            word = param.name.upper() + ("..." if param.nargs == -1 else "")
            param.metavar = word if param.required else f"[{word}]"
        is_option = isinstance(param, click.Option) and not param.is_flag and not param.count
        if is_option and param.metavar is None:
            if isinstance(param.type, click.types.IntParamType):
                param.metavar = "NUMBER"
            elif isinstance(param.type, click.types.StringParamType):
                param.metavar = "WORDS"
