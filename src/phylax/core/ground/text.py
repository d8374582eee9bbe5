"""Text that a machine says of itself: shown to people, bounded, on one line."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field


def _printable(text: str) -> str:
    """What a machine says of itself is shown to people: nothing in it moves a cursor."""
    return "".join(char if char.isprintable() else " " for char in text)


Text = Annotated[str, Field(max_length=500), AfterValidator(_printable)]


def _short(text: str) -> str:
    """What a machine says of itself moves no cursor and fills no page."""
    return "".join(sign if sign.isprintable() else " " for sign in text)[:200]


ShortText = Annotated[str, AfterValidator(_short)]
