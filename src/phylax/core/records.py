"""Maintenance records: append-only entries, each carrying the digest of the one before."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field

from phylax.core.attachments import MOST_OF_AN_ENTRY, Attachment
from phylax.core.chain import FIRST, Link, Part, digest_of, hashed_text, why_broken
from phylax.core.runs import RunState
from phylax.core.values import Demand, Moment, Value, to_seconds

PERSONAL = ("who", "text")
"""What of an entry may be about a person."""


class RecordKind(StrEnum):
    RUN = "run"
    NOTE = "note"
    CALL = "call"
    """What was said with the client."""
    MACHINE = "machine"
    REPORT = "report"
    """A report sent to the client."""
    VISIT = "visit"
    """A visit opened, moved, ended."""
    SETTING = "setting"
    """A trial that ended, a change that undid itself, a setting that somebody altered."""


class NewNote(Demand):
    """A hand-written entry in a machine's record."""

    machine_id: int
    text: Annotated[str, Field(min_length=1, max_length=4000, examples=["Client told by phone."])]
    corrects: int | None = Field(None, description="The entry that this one puts right")
    kind: Literal[RecordKind.NOTE, RecordKind.CALL] = Field(
        RecordKind.NOTE, description="A call is what was said with the client"
    )
    attachments: Annotated[tuple[int, ...], Field(max_length=MOST_OF_AN_ENTRY)] = Field(
        (), description="Numbers of uploads that belong to it"
    )


class Entry(Value):
    """What a record entry says; everything here is covered by its digest."""

    machine_id: int
    at: Moment
    who: str
    kind: RecordKind
    text: str
    run_id: int | None = None
    state: RunState | None = None
    freed: int | None = None
    removed_count: int | None = None
    left_count: int | None = None
    corrects: int | None = None
    visit_id: int | None = Field(None, description="The visit that was open then")
    attachments: tuple[str, ...] | None = Field(
        None, description="SHA-256 of each picture or PDF that belongs to it"
    )
    evidence: dict[str, str] | None = Field(
        None, description="Salted digests of the listing, the consents and the outcomes of a run"
    )


class Record(Entry):
    id: int
    attached: tuple[Attachment, ...] = ()
    machine_tag: str
    client_name: str
    previous: str
    digest: str


class ChainCheck(Value):
    """The outcome of verifying the chain."""

    entries: int
    intact: bool
    broken_at: int | None = None
    why: str = ""


class KeptEntry(NamedTuple):
    """An entry with what its digest stands on."""

    record: Record
    hashed: str | None
    """None: an entry of the first form."""
    parts: Mapping[str, Part | None]


def digest(entry: Entry, previous: str) -> str:
    """Of an entry of the first form, with the digest before it."""
    return digest_of(first_form(entry, previous))


def _content(entry: Entry) -> dict[str, Any]:
    content: dict[str, Any] = entry.model_dump(mode="json", include=set(Entry.model_fields))
    content["at"] = to_seconds(entry.at)
    return content


def first_form(entry: Entry, previous: str) -> str:
    """What the digest of an entry of the first form is taken of.

    JSON with sorted keys, no spaces, times as epoch seconds, fields that are not set left out, so
    that a field added later does not change older digests.
    """
    content = {name: value for name, value in _content(entry).items() if value is not None}
    return json.dumps(content | {"previous": previous}, sort_keys=True, separators=(",", ":"))


def text_to_hash(entry: Entry, parts: Mapping[str, Part], previous: str) -> str:
    """What an entry's digest is taken of; its personal parts as digests."""
    return hashed_text(_impersonal(entry), parts, previous)


def _impersonal(entry: Entry) -> dict[str, Any]:
    return {name: value for name, value in _content(entry).items() if name not in PERSONAL}


def verify(entries: Iterable[KeptEntry]) -> ChainCheck:
    """Follow the chain from the first entry; stops at the first that does not fit."""
    previous = FIRST
    number = 0
    is_new_form = False
    for record, hashed, parts in entries:
        number += 1
        if record.previous != previous:
            why = "it does not follow the entry before it: one was taken out or put in"
        elif hashed is not None:
            is_new_form = True
            why = why_broken(Link(hashed, record.digest, _impersonal(record), parts), previous)
        elif is_new_form:
            why = "it is of a form that was not written any more"
        elif digest(record, previous) != record.digest:
            why = "its text does not fit its digest: it was altered"
        else:
            why = ""
        if why:
            return ChainCheck(entries=number, intact=False, broken_at=record.id, why=why)
        previous = record.digest
    return ChainCheck(entries=number, intact=True)
