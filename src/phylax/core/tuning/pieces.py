"""Names in folders, exactly: nothing, a link, a small file, a folder; and what becomes of them."""

from __future__ import annotations

from base64 import b64decode, b64encode
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.values import Value


class Nothing(Value):
    kind: Literal["nothing"] = "nothing"


class Link(Value):
    kind: Literal["link"] = "link"
    target: str


class File(Value):
    kind: Literal["file"] = "file"
    content: str = Field(description="Base 64")
    mode: int = 0o644
    uid: int | None = None
    gid: int | None = None

    @property
    def data(self) -> bytes:
        return b64decode(self.content)

    @classmethod
    def of(cls, content: bytes, mode: int = 0o644) -> File:
        return cls(content=b64encode(content).decode("ascii"), mode=mode)


class Folder(Value):
    kind: Literal["folder"] = "folder"
    mode: int = 0o755


State = Annotated[Nothing | Link | File | Folder, Field(discriminator="kind")]
NOTHING = Nothing()


class Piece(Value):
    """One name, and what becomes of it."""

    path: str = Field(description="Below the top folder, with '/' between names")
    before: State
    after: State
