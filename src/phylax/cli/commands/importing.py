"""`phylax client import`: a list from elsewhere, previewed and imported."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from pathlib import Path
from typing import get_args

import click

from phylax.cli.session.session import Session, pass_session
from phylax.cli.terminal.confirming import ask
from phylax.cli.terminal.forms import TABLE, Form, shows_one
from phylax.cli.terminal.output import Column, console, print_list, print_one
from phylax.cli.terminal.types import FILE
from phylax.core.clients.importing.lines import shown
from phylax.core.clients.importing.request import (
    LONGEST_LIST,
    Encoding,
    ImportDone,
    ImportPreview,
    ImportRequest,
    LineResult,
    LineStatus,
    ListField,
    NamedColumn,
    Separator,
)
from phylax.core.ground.machines import System
from phylax.core.ground.quantities import count

_LOSSY = (LineStatus.REFUSED, LineStatus.DIFFERS, LineStatus.DOUBLE)
_FIELDS = ", ".join(field.value for field in ListField)


@click.command("import")
@click.argument("file", type=FILE)
@click.option("--column", "columns", multiple=True, metavar="HEADING=FIELD",
              help=f"What a column holds, where its heading does not say it; may be repeated. "
                   f"Fields: {_FIELDS}; empty: it is not read.")  # fmt: skip
@click.option("--source", default="list", show_default=True,
              help="What the list is called: its own numbers are known by it.")  # fmt: skip
@click.option("--encoding", type=click.Choice(get_args(Encoding)), help="Where it is not sure.")
@click.option("--separator", type=click.Choice([",", ";", "tab", "|"]),
              help="Between cells, where it is not what it seems.")  # fmt: skip
@click.option("--system", type=click.Choice([system.value for system in System]),
              help="Of machines of which the list does not say it.")  # fmt: skip
@click.option("--overwrite", is_flag=True,
              help="Where the list differs from the shop, the list is right.")  # fmt: skip
@click.option("--all", "show_all", is_flag=True, help="Show the lines that are imported, too.")
@click.option("--yes", is_flag=True, help="Import without asking.")
@shows_one(ImportDone)
@pass_session
def command(
    session: Session,
    file: Path,
    columns: tuple[str, ...],
    source: str,
    encoding: Encoding | None,
    separator: str | None,
    system: str | None,
    overwrite: bool,
    show_all: bool,
    yes: bool,
    form: Form,
) -> None:
    """Take in clients and machines from FILE, a CSV with a line of headings. First it says what
    becomes of each line; nothing is written before a yes."""
    if file.stat().st_size > LONGEST_LIST:
        raise click.ClickException(f"{file} is larger than 8 MiB: cut it into parts.")
    asked = ImportRequest(
        content=base64.b64encode(file.read_bytes()),
        source=source,
        encoding=encoding,
        separator=_separator(separator),
        system=System(system) if system else None,
        overwrite=overwrite,
    )
    preview = session.shop.imports.preview(asked)
    if columns:
        asked = asked.model_copy(update={"columns": _named(columns, preview)})
        preview = session.shop.imports.preview(asked)
    if form.is_table:
        _show(preview, show_all)
    else:
        print_list(form, preview.lines, _COLUMNS, empty="No lines.")
    if preview.needed:
        raise click.ClickException(preview.needed)
    wanted = (LineStatus.ADDED, LineStatus.COMPLETED, LineStatus.CHANGED)
    if not any(preview.count_by_status[status] for status in wanted):
        console.print("There is nothing to take in.")
        return
    ask("Import it?", yes=yes)
    done = session.shop.imports.take_in(asked, preview)
    print_one(form, done, [
        ("added", str(done.added)), ("completed", str(done.completed)),
        ("changed", str(done.changed)), ("new clients", str(done.new_clients)),
    ])  # fmt: skip


def _separator(said: str | None) -> Separator | None:
    signs: tuple[Separator, ...] = get_args(Separator)
    wanted = "\t" if said == "tab" else said
    return next((sign for sign in signs if sign == wanted), None)


def _named(said: Sequence[str], preview: ImportPreview) -> tuple[NamedColumn, ...]:
    """Columns by their headings, or by their numbers from the left."""
    headings = {column.heading.casefold(): column.column for column in preview.columns}
    named = []
    for text in said:
        heading, sign, name = text.rpartition("=")
        number = headings.get(heading.strip().casefold())
        if number is None and heading.strip().isdecimal():
            number = int(heading)
        fields = {field.value: field for field in ListField}
        if not sign or number is None or (name and name not in fields):
            raise click.UsageError(
                f"{text!r}: write HEADING=FIELD. Headings: {', '.join(headings)}. "
                f"Fields: {_FIELDS}."
            )
        named.append(NamedColumn(column=number, field=fields.get(name)))
    return tuple(named)


def _says(line: LineResult) -> str:
    changes = [
        f"{shown(change.field)}: {change.after}"
        + (f" instead of {change.before}" if change.before else "")
        for change in line.changes
    ]
    return "; ".join([*changes, *line.remarks])


_COLUMNS = (
    Column("line", lambda line: str(line.line), right=True),
    Column("status", lambda line: line.status.value),
    Column("client", lambda line: line.client + (" (new)" if line.new_client else "")),
    Column("machine", lambda line: line.tag),
    Column("what is to be known", _says),
)


def _show(preview: ImportPreview, show_all: bool) -> None:
    for column in preview.columns:
        taken = shown(column.field) if column.field else "not read"
        console.print(f"  {column.heading or column.column}: {taken}", highlight=False)
    if not preview.sure:
        console.print(f"The encoding is not sure; read as {preview.encoding} it says:")
        for text in preview.doubtful:
            console.print(f"  {text}", highlight=False)
    lines = [line for line in preview.lines if show_all or line.status in _LOSSY or line.remarks]
    if lines:
        print_list(TABLE, lines, _COLUMNS, empty="")
    counts = ", ".join(
        f"{number} {status.value}" for status, number in preview.count_by_status.items() if number
    )
    console.print(f"{count(len(preview.lines), 'line')}: {counts or 'none'}; "
                  f"{count(preview.new_clients, 'new client')}.")  # fmt: skip
