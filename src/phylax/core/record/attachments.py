"""Pictures and PDFs that belong to an entry of the record."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from phylax.core.ground.values import Value

MOST_BYTES = 8 * 2**20
MOST_OF_AN_ENTRY = 8
AttachmentKind = Literal["png", "jpeg", "pdf"]


class Attachment(Value):
    id: int
    name: str
    kind: AttachmentKind
    size: int = Field(description="Bytes as it is kept")
    sha256: str = Field("", description="Of what is kept; its entry carries it")
