"""A report as PDF: tagged for screen readers and for keeping (PDF/UA-1, PDF/A-2a).

The same report on the same paper is the same bytes. Text is data to the typesetter and never its
markup; what no font of ours can show is replaced, for one such character would cost the report.
"""

from __future__ import annotations

import json
import threading
import unicodedata
from bisect import bisect_right
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any, NamedTuple

import typst

from phylax.core.reporting.document import (
    Block,
    Bullets,
    Column,
    Document,
    Drawing,
    Heading,
    Paragraph,
    Table,
)
from phylax.core.reporting.language import words
from phylax.core.reporting.request import Letterhead

_PAPER = Path(str(resources.files("phylax.service.reporting") / "paper"))
_STANDARDS: list[typst.PDFStandard] = ["ua-1", "a-2a"]
_LOST = "?"
_NOTHING = "–"
_DROPPED = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Mn", "Mc", "Me"})
"""Categories of characters that are not printed: controls, and marks that no letter took up, which
a font may have and still not be able to set upon what stands before them."""
_LONGEST = 5000
_LONGEST_LINE = 600
_MOST_LINES = 8
"""Of a page's head and foot."""
_one_at_a_time = threading.Lock()


class Paper(NamedTuple):
    """What a report is printed on."""

    shop: str
    letterhead: Letterhead
    mark: bytes


class Proof(NamedTuple):
    """What lets somebody check later that a report stands on the record."""

    seal: str
    entries: str
    """Numbers of entries, as ``12–15, 18``."""


def mark_as_data(kind: str, content: bytes) -> dict[str, Any] | None:
    """A mark as a template takes it; None where there is none."""
    if not content:
        return None
    text = content.decode() if kind == "svg" else ""
    return {"kind": kind, "text": text, "bytes": [] if text else list(content)}


@cache
def _shown() -> tuple[list[int], list[int]]:
    """First and last characters of the stretches that the fonts can show."""
    lines = (_PAPER / "characters.txt").read_text("utf-8").split()
    stretches = [tuple(int(end, 16) for end in line.split("-")) for line in lines]
    return [first for first, _ in stretches], [last for _, last in stretches]


def _is_shown(char: str) -> bool:
    firsts, lasts = _shown()
    at = bisect_right(firsts, ord(char)) - 1
    return at >= 0 and ord(char) <= lasts[at]


def cleaned(text: str) -> str:
    """Text of which every character can be printed. Controls and marks that steer a line's
    direction are dropped, what no font has becomes a question mark."""
    kept = []
    for char in unicodedata.normalize("NFC", text):
        if char in " \n":
            kept.append(char)
        elif char == "\t" or unicodedata.category(char) in ("Zs", "Zl", "Zp"):
            kept.append(" ")
        elif unicodedata.category(char) in _DROPPED:
            continue
        else:
            kept.append(char if _is_shown(char) else _LOST)
    return "".join(kept)


def _in_one_line(text: str) -> str:
    """For a heading or a cell: a table's head that is higher than a page would never end, and a
    heading without a word is none."""
    return " ".join(cleaned(text).split())[:_LONGEST_LINE] or _NOTHING


def _whole(text: str) -> str:
    return cleaned(text)[:_LONGEST]


def _block(block: Block) -> dict[str, Any]:
    """A block as the template takes it."""
    match block:
        case Heading():
            block = block.model_copy(update={"text": _in_one_line(block.text)})
        case Paragraph():
            block = block.model_copy(update={"text": _whole(block.text)})
        case Bullets():
            block = Bullets(lines=tuple(map(_whole, block.lines)))
        case Table():
            block = Table(
                columns=tuple(
                    Column(name=_in_one_line(column.name), is_number=column.is_number)
                    for column in block.columns
                ),
                rows=tuple(tuple(map(_in_one_line, row)) for row in block.rows),
            )
        case Drawing():
            named = {
                "caption": _in_one_line(block.caption),
                "alt_text": _in_one_line(block.alt_text),
            }
            block = block.model_copy(update=named)
    return block.model_dump(mode="json")


def _few_lines(text: str) -> str:
    """For the head and foot of a page: higher than it, they would leave no room."""
    lines = [_in_one_line(line) for line in cleaned(text).split("\n") if line.strip()]
    return "\n".join(lines[:_MOST_LINES])


def printed(document: Document, paper: Paper, who: str, proof: Proof | None) -> bytes:
    """A report as PDF."""
    w = words(document.language)
    data = {
        "document": {
            "language": document.language,
            "title": _in_one_line(document.title),
            "day": document.day.isoformat(),
            "lines": [_in_one_line(line) for line in document.lines],
            "blocks": [_block(block) for block in document.blocks],
        },
        "shop": _in_one_line(paper.shop),
        "head": _few_lines(paper.letterhead.head or paper.shop),
        "foot": _few_lines(paper.letterhead.foot),
        "page": w.say("page", page="{page}", pages="{pages}"),
        "made": _in_one_line(w.say("made", day=w.day(document.day), who=who)),
        "proof": w.say("proof"),
        "proof_text": _whole(w.say("proof_text", entries=proof.entries)) if proof else "",
        "seal": _whole(proof.seal) if proof else "",
    }
    return compiled("report.typ", data | {"mark": mark_as_data(paper.letterhead.mark, paper.mark)})


@cache
def _compiler() -> typst.Compiler:
    """Reads nothing but the paper's folder, and asks no network."""
    fonts = typst.Fonts(
        include_system_fonts=False,
        include_embedded_fonts=True,
        font_paths=[str(_PAPER / "fonts")],
    )
    return typst.Compiler(root=str(_PAPER), font_paths=fonts)


def compiled(template: str, data: dict[str, Any]) -> bytes:
    """A template of the paper's folder with its data as PDF. typst.TypstError where it cannot be
    made of it."""
    inputs = {"data": json.dumps(data)}
    # a compiler serves one thread at a time
    with _one_at_a_time:
        made = _compiler().compile(
            (_PAPER / template).read_bytes(),
            format="pdf",
            sys_inputs=inputs,
            pdf_standards=_STANDARDS,
        )
    assert isinstance(made, bytes)
    return made
