"""Chains of entries, each carrying the digest of the one before; their form, and how it is checked.

An entry of form 2 is hashed as JSON text that is kept as it was hashed, for other languages write
the same values otherwise. What may be about a person enters that text as a digest alone, of 16
bytes of salt and the words. Words and salt lie beside, so that they can be forgotten one day and
the chain still holds; without its salt, a digest cannot be used to try out names.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import Mapping
from hashlib import sha256
from typing import Any, NamedTuple

FIRST = "0" * 64
"""What the first entry carries in place of a digest before it."""
FORM = 2
SALT_BYTES = 16


class Part(NamedTuple):
    """Words that enter an entry as a digest."""

    salt: bytes
    text: str

    @classmethod
    def of(cls, text: str) -> Part:
        return cls(secrets.token_bytes(SALT_BYTES), text)

    @classmethod
    def kept(cls, salt: bytes | None, text: str | None) -> Part | None:
        """As it was kept; None where it is gone."""
        return None if salt is None or text is None else cls(salt, text)

    @property
    def digest(self) -> str:
        """SHA-256 over salt and text, as hexadecimal."""
        return sha256(self.salt + self.text.encode("utf-8", "surrogatepass")).hexdigest()


class Link(NamedTuple):
    """An entry of form 2 as it is kept."""

    hashed: str
    digest: str
    content: Mapping[str, Any]
    """What it says besides its parts; what is None is left out."""
    parts: Mapping[str, Part | None]
    """By name; None: the words are gone."""


def hashed_text(content: Mapping[str, Any], parts: Mapping[str, Part], previous: str) -> str:
    """The text of which the digest is taken; fields that are not set are left out."""
    said = {name: value for name, value in content.items() if value is not None}
    said |= {name: part.digest for name, part in parts.items()}
    said |= {"v": FORM, "previous": previous}
    return json.dumps(said, ensure_ascii=False, sort_keys=True, separators=(",", ":"))


def digest_of(hashed: str) -> str:
    """SHA-256 over the text as UTF-8, as hexadecimal."""
    return sha256(hashed.encode("utf-8", "surrogatepass")).hexdigest()


def why_broken(link: Link, previous: str, *, may_lack: bool = False) -> str:
    """Why an entry of form 2 does not follow a digest; empty: it does. `may_lack`: words of it may
    have been erased."""
    try:
        said = json.loads(link.hashed)
    except (ValueError, RecursionError):
        said = None
    if not isinstance(said, dict) or digest_of(link.hashed) != link.digest:
        return "its text does not fit its digest: it was altered"
    if said.pop("previous", None) != previous:
        return "it does not follow the entry before it: one was taken out or put in"
    shown = {name: value for name, value in link.content.items() if value is not None}
    digests = {name: said.pop(name, None) for name in link.parts}
    if said != shown | {"v": FORM}:
        return "what it shows is not what was hashed: it was altered"
    for name, part in link.parts.items():
        if part is None and digests[name] is not None and not may_lack:
            return f"its {name} is gone"
        if part is not None and part.digest != digests[name]:
            return f"its {name} is not what was hashed: it was altered"
    return ""
