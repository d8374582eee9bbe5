"""The record with its chain, for others to verify: the text of each entry as it was hashed, its
digest, its words with their salts, and seals with their keys."""

from __future__ import annotations

import json
from collections.abc import Iterator
from itertools import chain as one_after_the_other
from sqlite3 import Connection
from typing import Any

from phylax.core.record.records import KeptEntry, first_form
from phylax.service.record import seal_keys
from phylax.store.record import records, seals

_SEALS = 1000


def files(conn: Connection, client: int | None) -> Iterator[tuple[str, Iterator[str]]]:
    """Names and lines. Of a client alone there is no chain to follow: proofs stand for it."""
    yield "entries.jsonl", (_entry(entry) for entry in records.chain(conn, client))
    if client is None:
        yield "hashed.txt", (_hashed(entry) or "" for entry in records.chain(conn))
        yield "digests.txt", records.digests(conn)
    known = seals.listed(conn, most=_SEALS if client is None else 1)
    for seal in known[:1]:
        yield "seal.txt", iter(seal.note.split("\n")[:-1])
    if len(known) > 1:
        notes = (seal.note.rstrip("\n").split("\n") for seal in known)
        yield "older-seals.txt", one_after_the_other.from_iterable([*note, ""] for note in notes)
    for number, key in enumerate(reversed(seals.keys(conn)), 1):
        pem = seal_keys.as_pem(key.public_key).rstrip("\n").split("\n")
        yield f"key-{number}.pem", iter(pem)


def _hashed(entry: KeptEntry) -> str | None:
    """None: of the first form, and its words were erased."""
    if entry.hashed is not None:
        return entry.hashed
    return None if entry.erased_by else first_form(entry.record, entry.record.previous)


def _entry(entry: KeptEntry) -> str:
    line: dict[str, Any] = {
        "id": entry.record.id,
        "digest": entry.record.digest,
        "hashed": _hashed(entry),
        "erased_by": list(entry.erased_by),
        "parts": {
            name: None if part is None else {"salt": part.salt.hex(), "text": part.text}
            for name, part in entry.parts.items()
        },
    }
    return json.dumps(line, ensure_ascii=False, separators=(",", ":"))
