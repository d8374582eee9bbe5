"""From bytes to the cells of a list: encoding, separator, lines.

An encoding that is not sure is said to be so, with the lines that show it. A line that cannot be
read costs itself alone: a quote that is never closed does not swallow the lines after it.
"""

from __future__ import annotations

import codecs
import csv
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import NamedTuple, get_args

from phylax.core.clients.importing.request import MOST_COLUMNS, MOST_LINES, Encoding, Separator

_MARKS: tuple[tuple[bytes, Encoding], ...] = (
    (codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"),
)  # fmt: skip
_CODECS: dict[Encoding, str] = {"macintosh": "mac_roman", "utf-8": "utf-8-sig"}
_LINE = re.compile(r"[^\r\n]*(?:\r\n|\r|\n)|[^\r\n]+")
_SHOWN = 10
_LOOKED_AT = 500
_LONGEST_CELL = 60
"""Lines that one cell may go over."""


class Decoded(NamedTuple):
    """The text of a list."""

    text: str
    encoding: Encoding
    sure: bool


class SheetRow(NamedTuple):
    """A row as it stands in the file."""

    line: int
    """Of the file, from 1, where it begins."""
    cells: tuple[str, ...]
    why: str
    """Why it cannot be read; empty: it can."""


class Sheet(NamedTuple):
    """A list with its heading."""

    separator: Separator
    heading: tuple[str, ...]
    rows: tuple[SheetRow, ...]


def decoded(content: bytes, encoding: Encoding | None = None) -> Decoded:
    """ValueError where it is not of the encoding that was said, or is no text at all."""
    if encoding is not None:
        return Decoded(_decode(content, encoding), encoding, True)
    for mark, marked in _MARKS:
        if content.startswith(mark):
            return Decoded(_decode(content, marked), marked, True)
    if wide := _wide_without_mark(content):
        return Decoded(_plain(content.decode(wide)), "utf-16", True)
    try:
        return Decoded(_decode(content, "utf-8"), "utf-8", True)
    except ValueError:
        return Decoded(_plain(content.decode("windows-1252", "replace")), "windows-1252", False)


def _wide_without_mark(content: bytes) -> str:
    """UTF-16 of letters we write: every other byte is none."""
    head = content[:4000]
    if len(head) >= 4 and len(content) % 2 == 0:
        for codec, zeros in (("utf-16-le", head[1::2]), ("utf-16-be", head[::2])):
            if zeros.count(0) > 0.8 * len(zeros):
                return codec
    return ""


def _decode(content: bytes, encoding: Encoding) -> str:
    codec = _CODECS.get(encoding, encoding)
    if encoding == "utf-16" and not content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        codec = _wide_without_mark(content) or "utf-16-le"
    try:
        return _plain(content.decode(codec))
    except UnicodeDecodeError as error:
        raise ValueError(f"byte {error.start + 1} of the list is not {encoding}") from error


def _plain(text: str) -> str:
    if "\0" in text:
        raise ValueError("this is no list: save it as CSV, and take that")
    return text.removeprefix("\ufeff")


def doubtful_lines(text: str) -> tuple[str, ...]:
    """Lines with letters that are written otherwise in other encodings; each shows another."""
    seen: set[str] = set()
    lines: list[str] = []
    for match in _LINE.finditer(text):
        letters = {sign for sign in match[0] if not sign.isascii()}
        if not letters <= seen and len(lines) < _SHOWN:
            seen |= letters
            lines.append(match[0].strip()[:200])
    return tuple(lines)


def sheet(text: str, separator: Separator | None = None) -> Sheet:
    """ValueError where there is nothing in it, or far too much."""
    lines = _LINE.findall(text)
    first = 0
    # some programs say so in a line of their own
    for sign in get_args(Separator):
        if lines and lines[0].rstrip() == f"sep={sign}".rstrip():
            separator, first = separator or sign, 1
    separator = separator or _separator(lines[first : first + _LOOKED_AT])
    rows = _rows(lines, first, separator)
    heading = next((row for row in rows if any(row.cells)), None)
    if heading is None:
        raise ValueError("there is nothing in the list")
    if heading.why:
        raise ValueError(f"the names of the columns, in line {heading.line}: {heading.why}")
    if len(heading.cells) > MOST_COLUMNS:
        raise ValueError(f"the list has more than {MOST_COLUMNS} columns")
    kept = tuple(islice((row for row in rows if any(row.cells) or row.why), MOST_LINES + 1))
    if len(kept) > MOST_LINES:
        raise ValueError(f"the list has more than {MOST_LINES} lines: cut it into parts")
    names = tuple(" ".join(cell.split()) for cell in heading.cells)
    return Sheet(separator, names, tuple(_fitting(row, len(names), separator) for row in kept))


def _fitting(row: SheetRow, width: int, separator: str) -> SheetRow:
    if row.why:
        return row
    cells = row.cells
    while len(cells) > width and not cells[-1].strip():
        cells = cells[:-1]
    if len(cells) > width:
        sign = "tab" if separator == "\t" else separator
        why = f"it has {len(cells)} cells and there are {width} columns: is a {sign} in one of them"
        return SheetRow(row.line, cells, f"{why} that should be in quotes?")
    return SheetRow(row.line, cells + ("",) * (width - len(cells)), "")


def _separator(lines: Sequence[str]) -> Separator:
    """That by which most lines have the same number of cells, two or more."""

    def lines_alike(sign: Separator) -> tuple[int, int]:
        widths = Counter(len(next(csv.reader([line], delimiter=sign), [])) for line in lines)
        return max(((many, width) for width, many in widths.items() if width > 1), default=(0, 0))

    signs: tuple[Separator, ...] = get_args(Separator)
    return max(signs, key=lines_alike)


def _rows(lines: Sequence[str], first: int, separator: Separator) -> Iterator[SheetRow]:
    at = first
    while at < len(lines):
        # a cell may go over lines, but not over the whole rest of the file
        reader = csv.reader(
            lines[at : at + _LONGEST_CELL], delimiter=separator, strict=True, skipinitialspace=True
        )
        try:
            cells = next(reader)
        except csv.Error as error:
            is_open = "unexpected end" in str(error)
            why = "a quote in it is never closed" if is_open else "its quotes do not fit together"
            yield SheetRow(at + 1, (lines[at].strip()[:200],), why)
            at += 1
        else:
            yield SheetRow(at + 1, tuple(cells), "")
            at += max(1, reader.line_num)
