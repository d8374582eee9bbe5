"""What a run's entry stands on: the listing that was agreed to, the consents, the outcomes. The
entry carries a salted digest of each, so that none of them can be altered later unnoticed."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from hashlib import sha256

from pydantic import Field

from phylax.core.ground.values import Value


class EvidenceKind(StrEnum):
    LISTING = "listing"
    CONSENTS = "consents"
    OUTCOMES = "outcomes"


class Evidence(Value):
    """One of them, compared with what its run's entry says."""

    what: EvidenceKind
    digest: str = Field(description="SHA-256 over 16 bytes of salt and the lines, as hexadecimal")
    lines: int
    valid: bool
    why: str = Field("", description="Why it does not hold")


def digest_of(salt: bytes, lines: Iterable[str]) -> tuple[str, int]:
    """Over the salt and lines that each end with a line feed; and how many lines there were."""
    digest, count = sha256(salt), 0
    for line in lines:
        digest.update(f"{line}\n".encode("utf-8", "surrogatepass"))
        count += 1
    return digest.hexdigest(), count
