"""Paths as people may read them, and back."""

from __future__ import annotations

from base64 import b64decode, b64encode

from phylax.core.survey.lines import Item


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


def unspell(item: Item) -> str:
    """The path of an item as the machine's own interfaces take it."""
    if item.raw is None:
        return item.path
    return b64decode(item.raw).decode("utf-8", "surrogateescape")
