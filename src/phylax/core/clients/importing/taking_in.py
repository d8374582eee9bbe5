"""An import as a whole: a list read, and what it would do, under a name by which it can be done."""

from __future__ import annotations

import json
from collections.abc import Callable
from hashlib import sha256
from typing import NamedTuple

from phylax.core.clients.importing import reading
from phylax.core.clients.importing.columns import placed
from phylax.core.clients.importing.planning import Known, Plan, plan
from phylax.core.clients.importing.reading import Decoded, Sheet
from phylax.core.clients.importing.request import (
    ColumnResult,
    ImportPreview,
    ImportRequest,
    LineStatus,
    ListField,
    NamedColumn,
)


class Prepared(NamedTuple):
    """A preview, and the plan behind it."""

    preview: ImportPreview
    plan: Plan


def prepare(asked: ImportRequest, known: Callable[[], Known]) -> Prepared:
    """ValueError where the list cannot be read at all."""
    decoded = reading.decoded(asked.content, asked.encoding)
    sheet = reading.sheet(decoded.text, asked.separator)
    columns = placed(sheet.heading, asked.columns)
    todo = _todo(decoded, columns)
    planned = (
        plan(sheet.rows, columns, known(), system=asked.system, overwrite=asked.overwrite)
        if any(named.field is ListField.CLIENT for named in columns)
        else Plan()
    )
    preview = ImportPreview(
        preview="" if todo else _name(asked, planned),
        encoding=decoded.encoding,
        sure=decoded.sure,
        doubtful=() if decoded.sure else reading.doubtful_lines(decoded.text),
        separator=sheet.separator,
        columns=_shown(sheet, columns),
        needed=todo,
        count_by_status={
            status: sum(line.status is status for line in planned.lines) for status in LineStatus
        },
        new_clients=sum(line.new_client for line in planned.lines),
        lines=tuple(planned.lines),
    )
    return Prepared(preview, planned)


def _todo(decoded: Decoded, columns: tuple[NamedColumn, ...]) -> str:
    if not any(named.field is ListField.CLIENT for named in columns):
        return "Say which column names the client."
    if not decoded.sure:
        return (
            "Look at the lines with letters that are not plain: if they are right, say the "
            f"encoding {decoded.encoding}; if not, another."
        )
    return ""


def _name(asked: ImportRequest, planned: Plan) -> str:
    """It changes with the list, how it is read, what it would do, and whatever of the shop it is
    matched with."""
    over = sha256(asked.content)
    options = asked.model_dump(mode="json", exclude={"content", "preview"})
    lines = [line.model_dump(mode="json") for line in planned.lines]
    over.update(json.dumps([options, lines, sorted(planned.matched)], sort_keys=True).encode())
    return over.hexdigest()


def _shown(sheet: Sheet, columns: tuple[NamedColumn, ...]) -> tuple[ColumnResult, ...]:
    readable = [row for row in sheet.rows if not row.why]
    return tuple(
        ColumnResult(
            column=named.column,
            field=named.field,
            heading=heading[:120],
            example=next(
                (cell for row in readable if (cell := row.cells[named.column - 1].strip())), ""
            )[:60],
        )
        for named, heading in zip(columns, sheet.heading, strict=True)
    )
