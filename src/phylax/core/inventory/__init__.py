"""What a machine has: updates that it lacks, programs, drivers, volumes on their disks, parts."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.inventory.disks import DisksListed
from phylax.core.inventory.drivers import DriversListed
from phylax.core.inventory.hardware import HardwareListed
from phylax.core.inventory.programs import ProgramsListed
from phylax.core.inventory.updates import UpdatesListed

Inventory = Annotated[
    UpdatesListed | ProgramsListed | DriversListed | DisksListed | HardwareListed,
    Field(discriminator="kind"),
]
"""One list, as it was at one moment; the newest that could be read counts."""

__all__ = [
    "DisksListed",
    "DriversListed",
    "HardwareListed",
    "Inventory",
    "ProgramsListed",
    "UpdatesListed",
]
