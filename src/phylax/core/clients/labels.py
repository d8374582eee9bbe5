"""Labels of machines: the tag, whose it is, and a code that opens the machine's page."""

from __future__ import annotations

from pydantic import Field

from phylax.core.ground.values import Value

MOST = 300
"""On one sheet."""


class Label(Value):
    machine_id: int
    tag: str
    client_name: str
    make_and_model: str
    address: str = Field(description="Of the machine's page")
    picture: str = Field(description="The address as a QR code: an SVG")
