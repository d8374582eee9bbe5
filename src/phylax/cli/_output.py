"""What commands print: tables for people, JSON and CSV for programs."""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from typing import Any, NamedTuple, TypeVar
from zoneinfo import ZoneInfo

import click
from pydantic import BaseModel
from rich.console import Console
from rich.table import Table
from rich.text import Text

M = TypeVar("M", bound=BaseModel)
F = TypeVar("F", bound=Callable[..., Any])

LOOK_HERE = "#c9821b"
"""Amber, for what wants to be seen; always beside a word that says so."""

console = Console(highlight=False, soft_wrap=False)


class Column(NamedTuple):
    """A column of a table: its heading, what stands in it, and how."""

    heading: str
    show: Callable[[Any], str | Text]
    right: bool = False


def format_option(command: F) -> F:
    """`--format table|json|csv`, given to the command as `form`."""
    return click.option(
        "--format",
        "form",
        type=click.Choice(["table", "json", "csv"]),
        default="table",
        help="How to print it.",
        show_default=True,
    )(command)


def print_list(
    form: str, found: Iterable[M], columns: Sequence[Column], *, empty: str, title: str = ""
) -> None:
    """Many of one kind."""
    if form == "json":
        # line by line, so that a long listing needs no memory
        click.echo("[", nl=False)
        for number, model in enumerate(found):
            click.echo(("," if number else "") + "\n" + model.model_dump_json(), nl=False)
        click.echo("\n]")
    elif form == "csv":
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow([column.heading for column in columns])
        for model in found:
            writer.writerow([str(column.show(model)) for column in columns])
    else:
        _print_table(found, columns, empty, title)


def _print_table(found: Iterable[M], columns: Sequence[Column], empty: str, title: str) -> None:
    table = Table(title=title or None, title_justify="left", box=None, header_style="dim")
    for column in columns:
        table.add_column(
            column.heading, justify="right" if column.right else "left", overflow="fold"
        )
    for model in found:
        table.add_row(*(column.show(model) for column in columns))
    console.print(table if table.row_count else empty)


def print_one(form: str, found: BaseModel, pairs: Sequence[tuple[str, str]]) -> None:
    """One thing: its pairs of name and value, or the whole as JSON or CSV."""
    if form == "json":
        click.echo(json.dumps(found.model_dump(mode="json"), indent=2))
    elif form == "csv":
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow([name for name, _ in pairs])
        writer.writerow([value for _, value in pairs])
    else:
        table = Table(box=None, show_header=False)
        table.add_column(style="dim")
        table.add_column(overflow="fold")
        for name, value in pairs:
            table.add_row(name, value)
        console.print(table)


def local(at: datetime | None, zone: ZoneInfo) -> str:
    """A time as the shop's clock shows it."""
    return f"{at.astimezone(zone):%Y-%m-%d %H:%M}" if at else "–"
