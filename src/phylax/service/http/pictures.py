"""Codes to print that open a page of the console."""

from __future__ import annotations

import io
from typing import Annotated

import segno
from fastapi import Query

ConsoleAddress = Annotated[
    str,
    Query(
        pattern=r"^https?://[A-Za-z0-9.\-\[\]:]{1,200}$",
        description="Where people open the console, as 'https://shop.example'",
    ),
]


def picture_of(address: str) -> str:
    """An address as a QR code: an SVG. Damaged in a sixth of it, it is still read."""
    picture = io.BytesIO()
    segno.make(address, error="m", micro=False).save(picture, kind="svg", border=2, xmldecl=False)
    return picture.getvalue().decode()
