"""What commands print: tables for people, JSON and CSV for programs."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple, TypeVar
from zoneinfo import ZoneInfo

import click
from pydantic import BaseModel
from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from phylax.cli.terminal.data import (
    cell,
    paths,
    print_csv,
    print_json,
    print_json_lines,
    print_json_list,
    value_at,
)
from phylax.cli.terminal.forms import Form
from phylax.cli.terminal.tables import Layout, print_unfolded
from phylax.core.ground.suggestions import did_you_mean

M = TypeVar("M", bound=BaseModel)

LOOK_HERE = "#c9821b"
"""Amber, for what wants to be seen; always beside a word that says so."""


class _PlainConsole(Console):
    """Names and paths of others are printed: brackets in them mean nothing, and nothing in them
    moves the cursor or colours the terminal. What goes into a pipe or file is not folded."""

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterator[Segment]:
        for segment in super().render(renderable, options):
            if segment.control is None and not segment.text.replace("\n", "").isprintable():
                yield Segment(_plain(segment.text), segment.style)
            else:
                yield segment

    def print(self, *objects: Any, **options: Any) -> None:
        if not self.is_terminal:
            options.setdefault("soft_wrap", True)
        super().print(*objects, **options)


def _plain(text: str) -> str:
    return "".join(sign if sign == "\n" or sign.isprintable() else "?" for sign in text)


console = _PlainConsole(highlight=False, soft_wrap=False, markup=False)
errors = _PlainConsole(highlight=False, soft_wrap=False, markup=False, stderr=True)
"""For what is said beside the output itself, such as how far a run is."""


class Column(NamedTuple):
    """A column of a table: its heading, what stands in it, and how."""

    heading: str
    show: Callable[[Any], str | Text]
    right: bool = False
    below: bool = False
    """It is prose, and stands below the others, over the whole width."""


def print_list(
    form: Form, items: Iterable[M], columns: Sequence[Column], *, empty: str, title: str = ""
) -> None:
    """Many of one kind."""
    items = _ordered(form, items, columns)
    if form.name == "json":
        print_json_list(items, _data_columns(form))
    elif form.name == "jsonl":
        print_json_lines(items, _data_columns(form))
    elif form.name == "csv":
        print_csv(items, _data_columns(form) or paths(form.shown.kind))
    else:
        _print_table(form, items, _table_columns(form, columns), empty, title)


def print_data(form: Form, whole: BaseModel, rows: Iterable[BaseModel]) -> bool:
    """One model with rows within as JSON, or its rows as CSV; whether it was printed. Tables are
    the command's own."""
    if form.name == "json":
        print_json(whole, ())
    elif form.name == "csv":
        print_csv(_ordered(form, rows, ()), _data_columns(form) or paths(form.shown.kind))
    return not form.is_table


def print_one(form: Form, item: BaseModel, pairs: Sequence[tuple[str, str]]) -> None:
    """One thing: its pairs of name and value, or the whole as data."""
    if form.name == "json":
        print_json(item, _data_columns(form))
    elif form.name == "csv":
        print_csv([item], _data_columns(form) or paths(form.shown.kind))
    else:
        _print_pairs(_chosen_pairs(form, item, pairs), unfolded=_is_unfolded(form))


def _is_unfolded(form: Form) -> bool:
    return form.wide or not console.is_terminal


# --- which columns, in which order ------------------------------------------------------------


def _data_columns(form: Form) -> list[str]:
    """The fields that are wanted; none for all."""
    known = paths(form.shown.kind)
    for name in form.columns:
        if name not in known:
            raise _no_column(name, known)
    return list(form.columns)


def _table_columns(form: Form, columns: Sequence[Column]) -> Sequence[Column]:
    return [_column(form, columns, name) for name in form.columns] or columns


def _column(form: Form, columns: Sequence[Column], name: str) -> Column:
    """A column by its heading, or by the field of the data that it shows."""
    by_heading = {column.heading.casefold(): column for column in columns}
    if name.casefold() in by_heading:
        return by_heading[name.casefold()]
    known = paths(form.shown.kind)
    if name in known:
        return Column(name, lambda item: cell(value_at(item.model_dump(mode="json"), name)))
    raise _no_column(name, [*by_heading, *known])


def _no_column(name: str, known: Sequence[str]) -> click.UsageError:
    names = ", ".join(dict.fromkeys(known))
    return click.UsageError(
        f"There is no column {name!r}{did_you_mean(name, known)} Allowed: {names}."
    )


def _ordered(form: Form, items: Iterable[M], columns: Sequence[Column]) -> Iterable[M]:
    if form.sort is None:
        return reversed(list(items)) if form.reverse else items
    show = _column(form, columns, form.sort).show
    return sorted(items, key=lambda item: sort_key(str(show(item))), reverse=form.reverse)


_UNITS = {
    "bytes": 1, "byte": 1, "KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "TiB": 2**40, "PiB": 2**50,
    "minutes": 60, "minute": 60, "hours": 3600, "hour": 3600, "days": 86400, "day": 86400,
}  # fmt: skip
_AMOUNT = re.compile(r"(-?\d+(?:\.\d+)?)(?: ([A-Za-z]+|%))?")


def sort_key(text: str) -> tuple[int, float, str]:
    """Numbers and sizes by what they amount to, before words by their letters; nothing last."""
    if not text.strip("–"):
        return 2, 0.0, ""
    match = _AMOUNT.fullmatch(text)
    if match is None:
        return 1, 0.0, text.casefold()
    return 0, float(match[1]) * _UNITS.get(match[2] or "", 1), match[2] or ""


# --- tables -----------------------------------------------------------------------------------


def _print_table(
    form: Form, items: Iterable[M], columns: Sequence[Column], empty: str, title: str
) -> None:
    rows = [[column.show(model) for column in columns] for model in items]
    if not rows:
        console.print(empty)
        return
    headings = [column.heading for column in columns]
    right = [column.right for column in columns]
    if _is_unfolded(form):
        if title:
            console.print(title)
        print_unfolded(console, headings, rows, right=right)
        return
    below = [column.below for column in columns]
    layout = Layout(headings, rows, right=right, below=below, room=console.width)
    layout.print(console, title)


def _chosen_pairs(
    form: Form, item: BaseModel, pairs: Sequence[tuple[str, str]]
) -> Sequence[tuple[str, str]]:
    if not form.columns:
        return pairs
    shown = dict(pairs)
    dumped = item.model_dump(mode="json")
    known = paths(form.shown.kind)
    chosen = []
    for name in form.columns:
        if name not in shown and name not in known:
            raise _no_column(name, [*shown, *known])
        chosen.append((name, shown[name] if name in shown else cell(value_at(dumped, name))))
    return chosen


def _print_pairs(pairs: Sequence[tuple[str, str]], *, unfolded: bool) -> None:
    if unfolded:
        width = max((len(name) for name, _ in pairs), default=0)
        for name, value in pairs:
            console.print(f"{name:<{width}}  {value}".rstrip(), soft_wrap=True)
        return
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
