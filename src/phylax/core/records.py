"""Maintenance records: append-only entries, each carrying the digest of the one before."""

from __future__ import annotations

import json
from collections.abc import Iterable
from enum import StrEnum
from hashlib import sha256
from typing import Annotated, Any

from pydantic import Field

from phylax.core.runs import RunState
from phylax.core.values import Demand, Moment, Value, to_seconds

FIRST = "0" * 64
"""What the first entry carries in place of a digest before it."""


class RecordKind(StrEnum):
    RUN = "run"
    NOTE = "note"
    MACHINE = "machine"
    SETTING = "setting"
    """A trial that ended, a change that undid itself, a setting that somebody altered."""


class NewNote(Demand):
    """A hand-written entry in a machine's record."""

    machine_id: int
    text: Annotated[str, Field(min_length=1, max_length=4000, examples=["Client told by phone."])]
    corrects: int | None = Field(None, description="The entry that this one puts right")


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


class Record(Entry):
    id: int
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


def digest(entry: Entry, previous: str) -> str:
    """SHA-256 over the entry and the digest before it, as hexadecimal.

    The text hashed is JSON with sorted keys, no spaces, times as epoch seconds, fields that are
    not set left out, so that a field added later does not change older digests.
    """
    content: dict[str, Any] = entry.model_dump(mode="json", include=set(Entry.model_fields))
    content["at"] = to_seconds(entry.at)
    content = {name: value for name, value in content.items() if value is not None}
    text = json.dumps(content | {"previous": previous}, sort_keys=True, separators=(",", ":"))
    return sha256(text.encode("utf-8")).hexdigest()


def verify(records: Iterable[Record]) -> ChainCheck:
    """Follow the chain from the first entry; stops at the first that does not fit."""
    previous = FIRST
    number = 0
    for record in records:
        number += 1
        if record.previous != previous:
            why = "it does not follow the entry before it: one was taken out or put in"
            return ChainCheck(entries=number, intact=False, broken_at=record.id, why=why)
        if digest(record, previous) != record.digest:
            why = "its text does not fit its digest: it was altered"
            return ChainCheck(entries=number, intact=False, broken_at=record.id, why=why)
        previous = record.digest
    return ChainCheck(entries=number, intact=True)
