"""What stands in a cell, as the shop writes it down; what cannot be made sense of is said."""

from __future__ import annotations

import re
import unicodedata
from typing import Literal, NamedTuple

from phylax.core.clients.facts import is_placeholder
from phylax.core.ground.machines import System
from phylax.core.ground.quantities import parse_size
from phylax.core.record.searching import spelled_out

_NOTHING = frozenset({"-", "--", "---", "–", "n/a", "na", "none", "null", "nil", "?", "??", "tbd",
                      "unknown", "unbekannt", "keine", "k.a."})  # fmt: skip
_BROKEN = re.compile(r"#(REF!|N/A|NAME\?|VALUE!|DIV/0!|NULL!|NUM!|BEZUG!|WERT!|NV)", re.IGNORECASE)
_AS_TEXT = re.compile(r'="([^"]*)"')
"""How spreadsheets are made to leave a number as it is."""
_ROUNDED = re.compile(r"\d[.,]\d+E\+\d+", re.IGNORECASE)
_SYSTEMS: tuple[tuple[System, str], ...] = (
    (System.MACOS, r"\b(mac|macos|macosx|osx|os x|darwin)\b|^mac"),
    (System.WINDOWS, r"\bwin(dows)?\b|^win|^w(7|8|10|11)\b"),
    (System.LINUX, r"linux|ubuntu|debian|fedora|\bmint\b|suse|\barch\b|centos"),
)
_REACH: tuple[tuple[Literal["phone", "mail", "message", "in person"], str], ...] = (
    ("mail", r"mail"), ("message", r"sms|message|text|chat|nachricht"),
    ("phone", r"phone|tel|call|mobile|handy"), ("in person", r"person|visit|besuch"),
)  # fmt: skip


class CellError(ValueError):
    """The whole line is refused for it."""


class ReadCell(NamedTuple):
    """What a cell says, and what is to be known of it."""

    text: str
    says: str = ""


def cleaned(cell: str) -> str:
    """Without what nobody wrote: spaces around, signs that show nothing, the signs by which
    spreadsheets mark text. Lines stay lines. CellError for a formula."""
    text = unicodedata.normalize("NFC", cell).replace("\r\n", "\n").replace("\r", "\n")
    text = "".join(
        " " if unicodedata.category(sign) == "Zs" else sign
        for sign in text
        if sign in "\n\t" or unicodedata.category(sign) not in ("Cc", "Cf", "Cs", "Co", "Cn")
    )
    text = "\n".join(" ".join(line.split()) for line in text.split("\n")).strip()
    if marked := _AS_TEXT.fullmatch(text):
        return marked[1].strip()
    if text.startswith("="):
        raise CellError(f"holds a formula, {text[:30]}: save the list with values")
    if text[:1] == "'" and text[1:2] in tuple("=+-@"):
        return text[1:]
    return text


def word(text: str) -> ReadCell:
    """One line; empty where only a sign for nothing stands there."""
    line = " ".join(text.split())
    if _BROKEN.fullmatch(line):
        return ReadCell("", f"“{line}” is a formula that failed, and left out")
    return ReadCell("" if line.casefold() in _NOTHING else line)


def serial(text: str) -> ReadCell:
    line, says = word(text)
    if line and is_placeholder(line):
        return ReadCell("", f"“{line}” is no serial number, but what makers leave there")
    if _ROUNDED.fullmatch(line):
        return ReadCell("", f"“{line}” is a number that a spreadsheet rounded, and left out")
    return ReadCell(line, says)


def year(text: str) -> ReadCell:
    line, says = word(text)
    match = re.search(r"(?<!\d)(19[89]\d|20\d\d)(?!\d)", line)
    if line and not match:
        return ReadCell("", f"“{line[:40]}” is no year, and left out")
    return ReadCell(match[1] if match else "", says)


def memory(text: str) -> ReadCell:
    """Bytes; a bare number up to 1024 is gigabytes, and memory's are of 1024."""
    line, says = word(text)
    if not line:
        return ReadCell("", says)
    plain = re.sub(r"(?i)\b([kmgt])b\b|(?<=\d)([kmgt])b\b", r"\1\2iB", line)
    plain = re.sub(r"(?i)(?<=\d)\s*([gm])$", r" \1iB", plain.replace("RAM", "").strip())
    try:
        if re.fullmatch(r"\d+([.,]\d+)?", plain) and float(plain.replace(",", ".")) <= 1024:
            plain += " GiB"
        return ReadCell(str(parse_size(plain)))
    except ValueError:
        return ReadCell("", f"“{line[:40]}” is no size of memory, and left out")


def system(text: str) -> System | None:
    """Of what kind a system is, by its name."""
    plain = spelled_out(text)
    return next((kind for kind, named in _SYSTEMS if re.search(named, plain)), None)


def reach_by(text: str) -> ReadCell:
    line, says = word(text)
    plain = spelled_out(line)
    way = next((way for way, named in _REACH if re.search(named, plain)), "")
    if line and not way:
        return ReadCell("", f"“{line[:40]}” is no way to reach somebody, and left out")
    return ReadCell(way, says)


def tag(text: str) -> ReadCell:
    """As tags are written: small letters, digits and hyphens."""
    line, says = word(text)
    made = slug(line)
    if line and made != line:
        says = f"“{line[:63]}” is written {made}" if made else f"“{line[:63]}” makes no tag"
    return ReadCell(made, says)


def slug(text: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", spelled_out(text)).strip("-")[:63].strip("-")
