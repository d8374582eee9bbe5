"""Seals: what the record was at a moment, signed, and kept by others.

A chain alone does not show that its end was cut off, or that all of it was written anew. Whoever
holds a seal can tell. Its form is a signed note (C2SP signed-note): the origin; how many entries;
the root of a Merkle tree (RFC 9162) over the entries' digests; lines of our own; signatures.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterable
from datetime import datetime
from hashlib import sha256
from itertools import islice
from typing import NamedTuple

from pydantic import Field

from phylax.core.ground.values import Demand, Moment, Value

_OWN = re.compile(r"(chain|audit|generation|time) (\S+(?: \S+)*)")
_SIGNED = re.compile("\N{EM DASH} (\\S+) ([A-Za-z0-9+/=]+)")
_ED25519 = b"\x01"
LONGEST_NOTE = 10_000


class Sealed(NamedTuple):
    """What a seal says."""

    origin: str
    entries: int
    """Of the record."""
    root: bytes
    head: str
    """Digest of the newest entry; empty where there is none."""
    audit_count: int
    audit_head: str
    generation: str
    at: datetime


class Seal(Value):
    """A seal that was made."""

    id: int
    at: Moment
    count: int
    note: str


class SealKey(Value):
    """By which seals are checked."""

    name: str
    public_key: str = Field(description="Ed25519, as PEM")
    older: tuple[str, ...] = Field(
        (), description="Keys before, each of which signed its follower; the newest first"
    )


class NewSealCheck(Demand):
    """A seal that somebody kept."""

    note: str = Field(min_length=1, max_length=LONGEST_NOTE)


class SealCheck(Value):
    """Whether the record still is what a seal says that it was."""

    valid: bool
    why: str = Field("", description="Why not")
    sealed_at: Moment | None = None
    count: int = 0
    since: int = Field(0, description="Entries that came later")


class Tree:
    """A Merkle tree over digests that come one after the other; it keeps its right edge alone."""

    def __init__(self) -> None:
        self._edge: list[tuple[int, bytes]] = []

    def add(self, digest: str) -> None:
        """The next entry's, as hexadecimal."""
        size, node = 1, leaf_of(digest)
        while self._edge and self._edge[-1][0] == size:
            _, left = self._edge.pop()
            size, node = 2 * size, node_of(left, node)
        self._edge.append((size, node))

    def copy(self) -> Tree:
        """One that grows by itself from here on."""
        tree = Tree()
        tree._edge = self._edge.copy()
        return tree

    def root(self) -> bytes:
        if not self._edge:
            return sha256(b"").digest()
        _, node = self._edge[-1]
        for _, left in reversed(self._edge[:-1]):
            node = node_of(left, node)
        return node


class Grown(NamedTuple):
    """A tree as far as it was grown, so that the next seal goes on from there."""

    entries: int
    newest: int
    """Number of the entry up to which it goes."""
    head: str
    tree: Tree


def leaf_of(digest: str) -> bytes:
    """The tree's leaf of an entry, by its digest as hexadecimal."""
    return sha256(b"\x00" + bytes.fromhex(digest)).digest()


def node_of(left: bytes, right: bytes) -> bytes:
    return sha256(b"\x01" + left + right).digest()


def root_of(digests: Iterable[str]) -> bytes:
    tree = Tree()
    for digest in digests:
        tree.add(digest)
    return tree.root()


def body(sealed: Sealed) -> str:
    """The text that is signed."""
    lines = (
        sealed.origin,
        str(sealed.entries),
        base64.b64encode(sealed.root).decode(),
        f"chain {sealed.head or '-'}",
        f"audit {sealed.audit_count} {sealed.audit_head or '-'}",
        f"generation {sealed.generation}",
        f"time {sealed.at:%Y-%m-%dT%H:%M:%SZ}",
    )
    return "".join(f"{line}\n" for line in lines)


def key_id(name: str, public: bytes) -> bytes:
    """Four bytes by which a signature says whose it is."""
    return sha256(name.encode() + b"\n" + _ED25519 + public).digest()[:4]


def note(text: str, name: str, public: bytes, signature: bytes) -> str:
    """The body with its signature."""
    signed = base64.b64encode(key_id(name, public) + signature).decode()
    return f"{text}\n\N{EM DASH} {name} {signed}\n"


class Opened(NamedTuple):
    """A note taken apart."""

    text: str
    """What is signed."""
    sealed: Sealed
    signatures: dict[tuple[str, bytes], bytes]
    """By name and key id."""


def opened(written: str) -> Opened:
    """A note taken apart; ValueError where it is none."""
    text, gap, rest = written.replace("\r\n", "\n").strip("\n").partition("\n\n")
    signatures = {}
    for match in _SIGNED.finditer(rest if gap else ""):
        signed = base64.b64decode(match[2], validate=True)
        if len(signed) == 68:
            signatures[match[1], signed[:4]] = signed[4:]
    lines = text.split("\n")
    own = {m[1]: m[2] for line in lines[3:] if (m := _OWN.fullmatch(line))}
    if len(lines) < 3 or not signatures or not lines[1].isdecimal() or len(lines[1]) > 15:
        raise ValueError("this is no seal of a record")
    try:
        audit_count, _, audit_head = own["audit"].partition(" ")
        sealed = Sealed(
            origin=lines[0],
            entries=int(lines[1]),
            root=base64.b64decode(lines[2], validate=True),
            head=own["chain"].strip("-"),
            audit_count=int(audit_count),
            audit_head=audit_head.strip("-"),
            generation=own["generation"],
            at=datetime.fromisoformat(own["time"]),
        )
    except (KeyError, ValueError) as error:
        raise ValueError("this is no seal of a record: a line is missing or odd") from error
    return Opened(f"{text}\n", sealed, signatures)


def compared(sealed: Sealed, digests: Iterable[str], generation: str) -> SealCheck:
    """Whether a record begins as a seal says. `digests` are of all its entries, in order."""
    entries = iter(digests)
    first = list(islice(entries, sealed.entries))
    since = sum(1 for _ in entries)
    why = ""
    if len(first) < sealed.entries:
        gone = sealed.entries - len(first)
        why = f"{gone} of its entries are not there any more"
    elif root_of(first) != sealed.root or (first and first[-1] != sealed.head):
        why = "its entries are not those that were sealed"
    if why and generation != sealed.generation:
        why = f"{why}; a backup was restored since, which the audit says more of"
    return SealCheck(valid=not why, why=why, sealed_at=sealed.at, count=sealed.entries, since=since)
