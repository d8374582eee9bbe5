"""Proofs that an entry is in the record that a seal is of.

Whoever holds one needs nobody's word: the entry as it was hashed, what its parts say, the path from
it to the root of the tree (RFC 9162, 2.1.3), and the seal. Its form is that of a C2SP tlog-proof.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from pydantic import Field

from phylax.core.ground.chain import Part, digest_of
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.record.seals import Opened, leaf_of, node_of, opened

_HEAD = "c2sp.org/tlog-proof@v1"
_INDEX = re.compile(r"index (\d{1,15})")
LONGEST_PROOF = 200_000


class EntryProof(Value):
    """A proof that an entry is in the record."""

    entry: int
    proof: str


class NewProofCheck(Demand):
    """A proof that somebody kept."""

    proof: str = Field(min_length=1, max_length=LONGEST_PROOF)


class ProofCheck(Value):
    """Whether an entry was in the record that was sealed, and still is."""

    valid: bool
    why: str = Field("", description="Why not")
    sealed_at: Moment | None = None
    position: int = Field(0, description="The entry's place in the record, from 1")
    at: Moment | None = Field(None, description="When the entry was written")
    who: str = ""
    text: str = Field("", description="What it says; empty where the proof leaves it out")


class Proof(NamedTuple):
    """A proof taken apart."""

    hashed: str
    """The entry as it was hashed."""
    parts: Mapping[str, Part]
    place: int
    """The entry's, from 0."""
    path: Sequence[bytes]
    seal: Opened
    note: str


def paths_to(leaves: Sequence[str], indexes: Sequence[int]) -> list[list[bytes]]:
    """For each index the hashes beside the way from its leaf to the root. `leaves` are digests as
    hexadecimal."""
    level = [leaf_of(digest) for digest in leaves]
    paths: list[list[bytes]] = [[] for _ in indexes]
    ways = list(indexes)
    while len(level) > 1:
        for path, way in zip(paths, ways, strict=True):
            if (beside := way ^ 1) < len(level):
                path.append(level[beside])
        pairs = zip(level[::2], level[1::2], strict=False)
        # a last one without a neighbour goes up as it is
        level = [node_of(*pair) for pair in pairs] + level[len(level) & ~1 :]
        ways = [way >> 1 for way in ways]
    return paths


def root_by(digest: str, index: int, size: int, path: Sequence[bytes]) -> bytes | None:
    """The root to which a path leads from a leaf (RFC 9162, 2.1.3.2); None: it leads nowhere."""
    if not 0 <= index < size:
        return None
    node, place, last = leaf_of(digest), index, size - 1
    for beside in path:
        if last == 0:
            return None
        if place & 1 or place == last:
            node = node_of(beside, node)
            while place and not place & 1:
                place, last = place >> 1, last >> 1
        else:
            node = node_of(node, beside)
        place, last = place >> 1, last >> 1
    return node if last == 0 else None


def written(
    hashed: str, parts: Mapping[str, Part], index: int, path: Sequence[bytes], note: str
) -> str:
    """A proof as text."""
    shown = {
        name: {"salt": base64.b64encode(part.salt).decode(), "text": part.text}
        for name, part in parts.items()
    }
    extra = json.dumps({"entry": hashed, "parts": shown}, ensure_ascii=False)
    lines = [
        _HEAD,
        f"extra {base64.b64encode(extra.encode()).decode()}",
        f"index {index}",
        *(base64.b64encode(node).decode() for node in path),
    ]
    return "\n".join(lines) + f"\n\n{note}"


def taken_apart(text: str) -> Proof:
    """A proof; ValueError where it is none."""
    head, gap, note = text.replace("\r\n", "\n").partition("\n\n")
    lines = head.strip("\n").split("\n")
    try:
        if not gap or lines[0] != _HEAD or not lines[1].startswith("extra "):
            raise ValueError
        index = _INDEX.fullmatch(lines[2])
        extra = json.loads(base64.b64decode(lines[1][6:], validate=True))
        path = [base64.b64decode(line, validate=True) for line in lines[3:]]
        if index is None or any(len(node) != 32 for node in path):
            raise ValueError
        return Proof(str(extra["entry"]), _parts(extra), int(index[1]), path, opened(note), note)
    except (ValueError, KeyError, IndexError, TypeError, AttributeError, RecursionError) as error:
        raise ValueError("this is no proof of an entry") from error


def _parts(extra: Mapping[str, Any]) -> dict[str, Part]:
    return {
        name: Part(base64.b64decode(part["salt"], validate=True), str(part["text"]))
        for name, part in extra["parts"].items()
    }


def why_not(proof: Proof) -> str:
    """Why a proof does not lead to what its seal says, whoever signed that; empty: it does."""
    sealed = proof.seal.sealed
    root = root_by(digest_of(proof.hashed), proof.place, sealed.entries, proof.path)
    if root is None or root != sealed.root:
        return "the entry is not in the record that was sealed"
    said = json.loads(proof.hashed)
    for name, part in proof.parts.items():
        if said.get(name) != part.digest:
            return f"its {name} is not what was hashed"
    return ""


def says(proof: Proof) -> dict[str, Any]:
    """What the entry says, with the words that the proof shows; for one that leads to its seal."""
    said: dict[str, Any] = json.loads(proof.hashed)
    if "v" in said:
        said |= {"who": "", "text": ""}
    return said | {name: part.text for name, part in proof.parts.items()}
