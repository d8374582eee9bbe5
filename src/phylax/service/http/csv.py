"""Listings as CSV (RFC 4180) for those who ask for `text/csv`."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from typing import Any

from fastapi import Request
from fastapi.responses import StreamingResponse

CSV: dict[int | str, dict[str, Any]] = {
    200: {"content": {"text/csv": {"schema": {"type": "string"}}}}
}


def wants_csv(request: Request) -> bool:
    return "text/csv" in request.headers.get("accept", "")


def as_csv(heading: tuple[str, ...], rows: Iterable[tuple[object, ...]]) -> StreamingResponse:
    """RFC 4180, with a heading; times as RFC 3339."""

    def lines() -> Iterator[str]:
        text = io.StringIO()
        writer = csv.writer(text)
        writer.writerow(heading)
        for number, row in enumerate(rows, 1):
            writer.writerow([cell(value) for value in row])
            if number % 500 == 0:
                yield text.getvalue()
                text.seek(0)
                text.truncate()
        yield text.getvalue()

    return StreamingResponse(lines(), media_type="text/csv; header=present")


def cell(value: object) -> object:
    """A value as it stands in a listing."""
    if hasattr(value, "isoformat"):
        return value.isoformat().replace("+00:00", "Z")
    # a spreadsheet must not take a client's name for a formula
    if isinstance(value, str) and value[:1] in "=+-@\t\r":
        return f"'{value}"
    return "" if value is None else value
