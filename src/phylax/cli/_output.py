"""What commands print: tables for people, JSON and CSV for programs."""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeVar
from zoneinfo import ZoneInfo

import click
from pydantic import BaseModel
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderableType
from rich.padding import Padding
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

M = TypeVar("M", bound=BaseModel)
F = TypeVar("F", bound=Callable[..., Any])

_INDENT = 4
_GAP = 2
LOOK_HERE = "#c9821b"
"""Amber, for what wants to be seen; always beside a word that says so."""


class _PlainConsole(Console):
    """Names and paths of others are printed: brackets in them mean nothing, and nothing in them
    moves the cursor or colours the terminal."""

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterator[Segment]:
        for segment in super().render(renderable, options):
            if segment.control is None and not segment.text.replace("\n", "").isprintable():
                yield Segment(_plain(segment.text), segment.style)
            else:
                yield segment


def _plain(text: str) -> str:
    return "".join(sign if sign == "\n" or sign.isprintable() else "?" for sign in text)


console = _PlainConsole(highlight=False, soft_wrap=False, markup=False)


class Column(NamedTuple):
    """A column of a table: its heading, what stands in it, and how."""

    heading: str
    show: Callable[[Any], str | Text]
    right: bool = False
    below: bool = False
    """It is prose, and stands below the others, over the whole width."""

    @property
    def justify(self) -> Literal["left", "right"]:
        return "right" if self.right else "left"


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
    form: str, items: Iterable[M], columns: Sequence[Column], *, empty: str, title: str = ""
) -> None:
    """Many of one kind."""
    if form == "json":
        # line by line, so that a long listing needs no memory
        click.echo("[", nl=False)
        for number, model in enumerate(items):
            click.echo(("," if number else "") + "\n" + model.model_dump_json(), nl=False)
        click.echo("\n]")
    elif form == "csv":
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow([column.heading for column in columns])
        for model in items:
            writer.writerow([_cell(str(column.show(model))) for column in columns])
    else:
        _print_table(items, columns, empty, title)


def _cell(text: str) -> str:
    """A spreadsheet must not take a name for a formula; a negative number stays one."""
    is_formula = text[:1] in "=+@\t\r" or (text[:1] == "-" and not text[1:2].isdecimal())
    return f"'{text}" if text.strip("-") and is_formula else text


_LEAST = 4
"""No column is made narrower than that."""


def _print_table(items: Iterable[M], columns: Sequence[Column], empty: str, title: str) -> None:
    rows = [[column.show(model) for column in columns] for model in items]
    if not rows:
        console.print(empty)
    elif any(column.below for column in columns):
        _print_with_prose(rows, columns)
    else:
        table = Table(title=title or None, title_justify="left", box=None, header_style="dim")
        cells = list(zip([column.heading for column in columns], *rows, strict=True))
        for column, width in zip(columns, _widths(cells, console.width, gap=2), strict=True):
            table.add_column(
                column.heading,
                justify=column.justify,
                overflow="fold",
                width=width,
            )
        for row in rows:
            table.add_row(*row)
        console.print(table)


def _print_with_prose(rows: Sequence[Sequence[str | Text]], columns: Sequence[Column]) -> None:
    """Each row's short cells side by side, and below them its prose over the whole width."""
    beside = [n for n, column in enumerate(columns) if not column.below]
    lines: list[list[str | Text]] = [[Text(columns[n].heading, style="dim") for n in beside]]
    lines += [[row[n] for n in beside] for row in rows]
    widths = _widths(list(zip(*lines, strict=True)), console.width, gap=_GAP)
    for line, row in zip(lines, [(), *rows], strict=True):
        grid = Table.grid(padding=(0, _GAP, 0, 0))
        for n, width in zip(beside, widths, strict=True):
            grid.add_column(justify=columns[n].justify, overflow="fold", width=width)
        grid.add_row(*line, style="bold" if row else None)
        console.print(grid)
        for column, cell in zip(columns, row, strict=False):
            if column.below and str(cell):
                console.print(Padding(cell, (0, 0, 0, _INDENT), expand=False))


def _widths(columns: Sequence[Sequence[str | Text]], room: int, *, gap: int) -> list[int]:
    """So wide that all fits; where there is no room for it, the widest columns are broken between
    words, and where that is not enough, in words."""
    widths, words = [], []
    for cells in columns:
        texts = [str(cell) for cell in cells]
        widths.append(max(cell_len(line) for text in texts for line in text.split("\n")))
        words.append(max((cell_len(word) for text in texts for word in text.split()), default=1))
    # what stands first names the thing: it is broken last
    for first, least in ((0, words), (2, [_LEAST] * len(words)), (0, [_LEAST] * len(words))):
        while sum(widths) + gap * len(widths) > room:
            spare = [n for n in range(first, len(widths)) if widths[n] > least[n]]
            if not spare:
                break
            widths[max(spare, key=widths.__getitem__)] -= 1
    return widths


def print_one(form: str, item: BaseModel, pairs: Sequence[tuple[str, str]]) -> None:
    """One thing: its pairs of name and value, or the whole as JSON or CSV."""
    if form == "json":
        click.echo(json.dumps(item.model_dump(mode="json"), indent=2))
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


def write_archive(take: Callable[[Path], int], file: Path) -> int:
    """Take an archive out into a new file; its size."""
    try:
        return take(file)
    except OSError as error:
        said = f"{file}: {error.strerror}." if error.strerror else f"{error}."
        raise click.ClickException(said) from error
