"""Paths as people may read them, and back."""

from __future__ import annotations

import unicodedata
from base64 import b64decode, b64encode

from phylax.core.survey.lines import Item

_MOST_COMPARED = 100_000


def spell(path: str) -> tuple[str, str | None]:
    """A path as people may read it, and in base64 besides where its bytes are not UTF-8.

    Control characters are shown as their escapes, so that a name cannot forge a line of a listing.
    """
    try:
        raw = path.encode("utf-8")
        plain = True
    except UnicodeEncodeError:
        raw = path.encode("utf-8", "surrogateescape")
        plain = False
    shown = raw.decode("utf-8", "backslashreplace")
    if not shown.isprintable():
        shown = "".join(c if c.isprintable() else repr(c)[1:-1] for c in shown)
        plain = False
    return shown, None if plain else b64encode(raw).decode("ascii")


class Lookalikes:
    """Names of one listing that look the same and are not: they differ only in how their accents
    are stored. From the second on, their letters beyond ASCII are shown as escapes.

    The first hundred thousand folders and files whose names have accents are compared.
    """

    def __init__(self) -> None:
        self._stored: dict[tuple[str, str], str] = {}

    def spell(self, place: str, path: str) -> tuple[str, str | None]:
        """As `spell`, for a path below a place."""
        shown, raw = spell(path)
        if path.isascii() or not self._is_lookalike(place, path):
            return shown, raw
        if raw is None:
            raw = b64encode(path.encode("utf-8")).decode("ascii")
        return shown.encode("ascii", "backslashreplace").decode("ascii"), raw

    def _is_lookalike(self, place: str, path: str) -> bool:
        if unicodedata.normalize("NFD", path) == unicodedata.normalize("NFC", path):
            return False
        end = 0
        while end < len(path):
            end = path.find("/", end + 1)
            end = len(path) if end < 0 else end
            stored = path[:end]
            letters = unicodedata.normalize("NFD", stored)
            if letters == unicodedata.normalize("NFC", stored):
                continue
            first = self._stored.get((place, letters))
            if first is None:
                if len(self._stored) < _MOST_COMPARED:
                    self._stored[place, letters] = stored
            elif first != stored:
                return True
        return False


def unspell(item: Item) -> str:
    """The path of an item as the machine's own interfaces take it."""
    if item.raw is None:
        return item.path
    return b64decode(item.raw).decode("utf-8", "surrogateescape")
