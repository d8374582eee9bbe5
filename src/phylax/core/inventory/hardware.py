"""What is built into a machine, as far as it says: what advice on memory and disks needs."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.text import Text
from phylax.core.ground.values import BytesTold, Moment, Value

MOST_SLOTS = 64


class MemorySlot(Value):
    """A place for memory."""

    place: Text
    size: BytesTold | None = Field(None, description="None: nothing is in it")
    kind: Text = ""
    maker: Text = ""
    model: Text = ""


class HardwareListed(Value):
    kind: Literal["hardware"] = "hardware"
    taken_at: Moment
    unread: Text = ""
    make: Text = ""
    model: Text = ""
    serial: Text = ""
    processor: Text = ""
    system_version: Text = Field("", description="As the system calls itself")
    memory: BytesTold | None = None
    most_memory: BytesTold | None = Field(None, description="What fits, by the machine itself")
    slots: Annotated[tuple[MemorySlot, ...], Field(max_length=MOST_SLOTS)] = ()
    pressed: float | None = Field(
        None, ge=0, le=100, description="Per cent of the time in which somebody waited for memory"
    )
