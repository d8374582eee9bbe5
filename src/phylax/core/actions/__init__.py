"""What a machine can be asked to do beyond cleaning and settings: a fixed set, with parameters from
fixed sets. There is none that carries a command."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.actions.acted import ActEnd, ActionPart, UnderWay, acted_in_words
from phylax.core.actions.kinds import (
    ArrangeDisks,
    ClearNameCache,
    InstallUpdates,
    RemoveProgram,
    RepairFileSystem,
    Restart,
    TryRemoval,
)

Action = Annotated[
    RepairFileSystem
    | ArrangeDisks
    | InstallUpdates
    | TryRemoval
    | RemoveProgram
    | ClearNameCache
    | Restart,
    Field(discriminator="action"),
]

__all__ = [
    "ActEnd",
    "Action",
    "ActionPart",
    "ArrangeDisks",
    "ClearNameCache",
    "InstallUpdates",
    "RemoveProgram",
    "RepairFileSystem",
    "Restart",
    "TryRemoval",
    "UnderWay",
    "acted_in_words",
]
