"""What people type to look something up, words and fields as ``machine:tag``, and what is found."""

from __future__ import annotations

import re
import unicodedata
from datetime import date
from enum import StrEnum
from typing import NamedTuple

from pydantic import Field

from phylax.core.ground.values import Moment, Value
from phylax.core.record.records import RecordKind

FIELDS = ("machine", "client", "by", "kind", "from", "to")
_PART = re.compile(r'(?:([a-z]+):)?(?:"([^"]*)"?|(\S+))')
_SPELLED = str.maketrans({
    "ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "æ": "ae", "ø": "oe", "å": "aa", "œ": "oe",
    "ð": "d", "þ": "th", "ł": "l", "đ": "d", "ı": "i",
})  # fmt: skip


class Search(NamedTuple):
    """A question to the record; what is empty or None is not asked."""

    words: tuple[str, ...] = ()
    machine: str = ""
    client: str = ""
    by: str = ""
    kinds: tuple[RecordKind, ...] = ()
    since: date | None = None
    until: date | None = None
    """The last day that counts."""


def read_search(text: str) -> Search:
    """ValueError where a field says something that cannot be; what looks like another field is
    words, for paths have colons too."""
    fields: dict[str, str] = {}
    kinds: list[RecordKind] = []
    words: list[str] = []
    for match in _PART.finditer(text.replace("\0", " ")):
        field, quoted, plain = match.groups()
        value = quoted if quoted is not None else plain
        if field is None and plain and plain.endswith(":") and plain[:-1] in FIELDS:
            field, value = plain[:-1], ""
        if field not in FIELDS:
            words.append(value if field is None else match[0])
        elif not value.strip():
            raise ValueError(f"'{field}:' is followed by what is looked for, without a space")
        elif field == "kind":
            kinds.append(_kind(value))
        elif field in fields:
            raise ValueError(f"'{field}:' is there twice")
        else:
            fields[field] = value.strip()
    since, until = _day(fields.get("from")), _day(fields.get("to"))
    if since and until and since > until:
        raise ValueError(f"'from:{since}' is later than 'to:{until}'")
    return Search(
        words=tuple(words),
        machine=fields.get("machine", ""),
        client=fields.get("client", ""),
        by=fields.get("by", ""),
        kinds=tuple(dict.fromkeys(kinds)),
        since=since,
        until=until,
    )


def _kind(value: str) -> RecordKind:
    try:
        return RecordKind(value.casefold())
    except ValueError:
        allowed = ", ".join(kind.value for kind in RecordKind)
        raise ValueError(f"no entry is of the kind {value!r}; there are {allowed}") from None


def _day(value: str | None) -> date | None:
    if value is None:
        return None
    try:
        return date.fromisoformat(value)
    except ValueError:
        raise ValueError(f"{value!r} is no day; write it as 2026-11-29") from None


def spelled_out(text: str) -> str:
    """The text with letters as they are written where a keyboard lacks them, lower case."""
    return without_marks(text.casefold().translate(_SPELLED))


def without_marks(text: str) -> str:
    """The text in lower case without accents."""
    return _without_marks(text.casefold())


def _without_marks(text: str) -> str:
    marks = unicodedata.normalize("NFD", text)
    return "".join(sign for sign in marks if not unicodedata.combining(sign))


def other_spellings(text: str) -> str:
    """Of a text's words, those that are spelled otherwise as well, so spelled."""
    otherwise: dict[str, None] = {}
    # in lower case alone: folded further, a sharp s would be spelled out already, and the index of
    # words knows it as it is
    for word in re.findall(r"\w+", text.lower()):
        spelled = spelled_out(word)
        if spelled != _without_marks(word):
            otherwise[spelled] = None
    return " ".join(otherwise)


class HitKind(StrEnum):
    """What a search finds."""

    MACHINE = "machine"
    CLIENT = "client"
    VISIT = "visit"
    FILE = "file"
    ADVICE = "advice"
    PROGRAM = "program"
    ENTRY = "entry"


class Hit(Value):
    """One thing that a search finds."""

    kind: HitKind
    id: int
    title: str
    line: str = Field("", description="The line that fits, or what became of it")
    machine_tag: str = ""
    client_name: str = ""
    at: Moment | None = None
    page: str = Field(description="Its page in the console")


class HitGroup(Value):
    """What of one kind fits, the newest first."""

    kind: HitKind
    hits: tuple[Hit, ...]
    more: bool = Field(description="Whether there are more than are shown")


class Results(Value):
    groups: tuple[HitGroup, ...] = Field(description="Kinds of which something fits")
