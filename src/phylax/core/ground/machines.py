"""What a machine is: its operating system, its kind of disk, what its agent knows of it."""

from __future__ import annotations

from enum import StrEnum
from typing import Literal

from phylax.core.ground.text import ShortText
from phylax.core.ground.values import BytesTold, Demand


class System(StrEnum):
    """The operating system of a machine."""

    WINDOWS = "windows"
    MACOS = "macos"
    LINUX = "linux"


DiskKind = Literal["ssd", "spinning", "unknown"]


class MachineFacts(Demand):
    """What an agent knows of its machine when it enrols."""

    system: System
    host: ShortText
    agent_version: ShortText
    kind: Literal["linux", "windows", "standin"]
    memory: BytesTold | None = None
    make: ShortText = ""
    model: ShortText = ""
