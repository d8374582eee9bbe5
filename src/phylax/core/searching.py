"""What people type to look something up in the record: words, and fields as ``machine:tag``."""

from __future__ import annotations

import re
import unicodedata
from datetime import date
from typing import NamedTuple

from phylax.core.records import RecordKind

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
    plain = text.casefold().translate(_SPELLED)
    marks = unicodedata.normalize("NFD", plain)
    return "".join(sign for sign in marks if not unicodedata.combining(sign))


def other_spellings(text: str) -> str:
    """Of a text's words, those that are spelled otherwise as well, so spelled."""
    otherwise: dict[str, None] = {}
    for word in re.findall(r"\w+", text.casefold()):
        spelled = spelled_out(word)
        bare = "".join(
            sign for sign in unicodedata.normalize("NFD", word) if not unicodedata.combining(sign)
        )
        if spelled != bare:
            otherwise[spelled] = None
    return " ".join(otherwise)
