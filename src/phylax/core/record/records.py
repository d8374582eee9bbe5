"""Maintenance records: append-only entries, each carrying the digest of the one before."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from enum import StrEnum
from hashlib import sha256
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field

from phylax.core.ground.chain import FIRST, Link, Part, digest_of, hashed_text, why_broken
from phylax.core.ground.values import Demand, Moment, Value, to_seconds
from phylax.core.record.attachments import MOST_OF_AN_ENTRY, Attachment
from phylax.core.runs.runs import RunState

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
    ERASURE = "erasure"
    """Words of entries were erased: a client was forgotten."""
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


class Erasure(Value):
    """That words of entries were erased: how many, and a digest of what of them stays."""

    entries: int
    digest: str


class Erased:
    """Goes over what stays of entries that lost their words, in their order."""

    def __init__(self) -> None:
        self._entries = 0
        self._over = sha256()

    def add(self, record: Record, hashed: str | None) -> None:
        stays = "" if hashed is not None else json.dumps(_impersonal(record), sort_keys=True)
        self._over.update(f"{record.id} {record.digest} {stays}\n".encode())
        self._entries += 1

    def sum(self) -> Erasure:
        return Erasure(entries=self._entries, digest=self._over.hexdigest())


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
    erasure: Erasure | None = Field(None, description="What of other entries was erased by this")


class Record(Entry):
    id: int
    attached: tuple[Attachment, ...] = ()
    erased: bool = Field(False, description="Its words were erased")
    machine_tag: str
    client_name: str
    previous: str
    digest: str


class ChainCheck(Value):
    """The outcome of verifying the chain."""

    entries: int
    intact: bool
    erased: int = Field(0, description="Entries that lost words, as an entry of the record says")
    broken_at: int | None = None
    why: str = ""


class KeptEntry(NamedTuple):
    """An entry with what its digest stands on."""

    record: Record
    hashed: str | None
    """None: an entry of the first form."""
    parts: Mapping[str, Part | None]
    erased_by: tuple[int, ...] = ()
    """Entries that say that words of this one were erased."""


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
    number = erased = 0
    is_new_form = False
    sums: dict[int, Erased] = {}
    for entry in entries:
        number += 1
        record = entry.record
        why = _why_broken(entry, previous, is_new_form) or _why_not_erased(entry, sums)
        if why:
            return ChainCheck(entries=number, intact=False, broken_at=record.id, why=why)
        is_new_form = is_new_form or entry.hashed is not None
        erased += bool(entry.erased_by)
        previous = record.digest
    if sums:
        return ChainCheck(entries=number, intact=False, broken_at=min(sums),
                          why="words were erased, and no entry says so")  # fmt: skip
    return ChainCheck(entries=number, intact=True, erased=erased)


def _why_broken(entry: KeptEntry, previous: str, is_new_form: bool) -> str:
    record, hashed, parts, erased_by = entry
    if record.previous != previous:
        return "it does not follow the entry before it: one was taken out or put in"
    if hashed is not None:
        link = Link(hashed, record.digest, _impersonal(record), parts)
        return why_broken(link, previous, may_lack=bool(erased_by))
    if is_new_form:
        return "it is of a form that was not written any more"
    # of the first form, the words were hashed with all the rest
    if not erased_by and digest(record, previous) != record.digest:
        return "its text does not fit its digest: it was altered"
    return ""


def _why_not_erased(entry: KeptEntry, sums: dict[int, Erased]) -> str:
    """Why what is erased is not what an entry says; takes off what that entry settles."""
    for number in entry.erased_by:
        sums.setdefault(number, Erased()).add(entry.record, entry.hashed)
    said = entry.record.erasure
    if said is None:
        return ""
    if sums.pop(entry.record.id, Erased()).sum() != said:
        return "what it says was erased is not what is gone: something was altered"
    return ""
