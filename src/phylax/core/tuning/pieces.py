"""What a change alters, exactly: names in folders, and values that a system keeps elsewhere."""

from __future__ import annotations

from base64 import b64decode, b64encode
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.values import Value


class Nothing(Value):
    kind: Literal["nothing"] = "nothing"


class Link(Value):
    kind: Literal["link"] = "link"
    target: str


class File(Value):
    kind: Literal["file"] = "file"
    content: str = Field(max_length=2**24, description="Base 64")
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


class StoredText(Value):
    """A value that the system keeps by a name, in the very form in which it gives and takes it."""

    kind: Literal["kept"] = "kept"
    text: str


State = Annotated[Nothing | Link | File | Folder | StoredText, Field(discriminator="kind")]
NOTHING = Nothing()


class Piece(Value):
    """One name, and what becomes of it."""

    path: str = Field(description="Below the top folder, with '/' between names")
    of: str = Field("", description="The person below whose home it lies; empty: the machine's")
    port: str = Field("", description="What keeps it, where it is no name in a folder")
    before: State
    after: State

    @property
    def place(self) -> tuple[str, str, str]:
        """What tells it from others."""
        return self.of, self.port, self.path

    @property
    def shown(self) -> str:
        """Where it is, for people."""
        words = (f"{self.of}:" if self.of else "", self.port, self.path)
        return " ".join(word for word in words if word)
