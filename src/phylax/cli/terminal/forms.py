"""How a command prints: as a table or as data, which columns, and in which order."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import click
from pydantic import BaseModel

F = TypeVar("F", bound=Callable[..., Any])

SHOWN = "__phylax_shown__"
"""Name of the attribute at which a command's function says what it shows, for the written schema of
outputs and for the check of columns."""


@dataclass(frozen=True)
class Shown:
    """What a command prints as data: models of one kind, or one model with rows within."""

    kind: type[BaseModel]
    """A row of CSV, and of JSON where it is a list."""
    whole: type[BaseModel] | None = None
    """What JSON holds, where it is one object."""


@dataclass(frozen=True)
class Form:
    """How it is wanted this time."""

    name: str
    shown: Shown
    columns: tuple[str, ...] = ()
    sort: str | None = None
    reverse: bool = False
    wide: bool = False

    @property
    def is_table(self) -> bool:
        return self.name == "table"


TABLE = Form("table", Shown(BaseModel))
"""For what is shown on the way to something else."""


def shows_list(kind: type[BaseModel], *, sorts: bool = True) -> Callable[[F], F]:
    """Options for a command that prints many of a kind; it gets a `Form` as `form`."""
    return _options(Shown(kind), sorts=sorts)


def shows_one(whole: type[BaseModel], *, rows: type[BaseModel] | None = None) -> Callable[[F], F]:
    """Options for a command that prints one model; CSV holds the rows within, where it has some."""
    return _options(Shown(rows or whole, whole), sorts=rows is not None)


def _options(shown: Shown, *, sorts: bool) -> Callable[[F], F]:
    names = ["table", "json", "csv"] if shown.whole else ["table", "json", "jsonl", "csv"]
    options = [
        click.option("--format", "form_name", type=click.Choice(names), default="table",
                     show_default=True, help="How to print it."),
        click.option("--columns", "wanted_columns", metavar="NAMES",
                     help="Only these, as in 'tag,client'."),
    ]  # fmt: skip
    if sorts:
        options += [
            click.option("--sort", "sort_by", metavar="NAME", help="Order by this column."),
            click.option("--reverse", "in_reverse", is_flag=True, help="The other way round."),
        ]
    options.append(
        click.option("--wide", "unfolded", is_flag=True, help="One line each, however long.")
    )

    def decorate(command: F) -> F:
        @functools.wraps(command)
        def with_form(*args: Any, **given: Any) -> Any:
            form = Form(
                given.pop("form_name"),
                shown,
                _names(given.pop("wanted_columns")),
                given.pop("sort_by", None),
                given.pop("in_reverse", False),
                given.pop("unfolded"),
            )
            return command(*args, form=form, **given)

        setattr(with_form, SHOWN, shown)
        wrapped: Any = with_form
        for option in reversed(options):
            wrapped = option(wrapped)
        return wrapped  # type: ignore[no-any-return]

    return decorate


def _names(text: str | None) -> tuple[str, ...]:
    return tuple(name.strip() for name in (text or "").split(",") if name.strip())
