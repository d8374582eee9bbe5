"""What kind of disk a volume is on, by several facts, and which treatment that allows.

A single fact is not enough: a virtual disk says that it spins and lets blocks be given back. Where
facts disagree, or too few are known, neither treatment is given.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.text import Text
from phylax.core.ground.values import Moment, Value

MOST_VOLUMES = 200
_NEVER_ARRANGED = ("btrfs", "zfs", "bcachefs", "refs", "apfs")
"""Each write goes elsewhere: arranging would copy what snapshots share."""


class DiskFacts(Value):
    """What is known of the disk below a volume; None: not known."""

    spins: bool | None = Field(None, description="What the system says")
    gives_back: bool | None = Field(None, description="Blocks that are free can be given back")
    turns: int | None = Field(None, ge=0, description="Turns a minute, by the disk; 0: none")
    flash_bus: bool = Field(False, description="On a bus that only solid-state disks have")
    zoned: bool = Field(False, description="It writes in zones, overlapping ones perhaps")
    pending: int | None = Field(None, ge=0, description="Sectors that wait to be replaced")


class Treatment(StrEnum):
    """What may be done to a volume."""

    GATHER = "gather"
    """Put the pieces of files together, on a spinning disk."""
    GIVE_BACK = "give back"
    """Tell a solid-state disk which blocks are free."""
    NONE = "none"


class Judgement(Value):
    """Which treatment a volume gets, and why."""

    treatment: Treatment
    why: Text


class VolumeOnDisk(Value):
    """A volume, the kind of its disk and how its files lie."""

    volume: Text
    file_system: Text = ""
    disk: Text = ""
    facts: DiskFacts
    snapshots: bool = Field(False, description="It keeps snapshots, or may")
    files: int | None = Field(None, ge=0, description="Files that were looked at")
    pieces: int | None = Field(None, ge=0, description="Pieces that they lie in")
    judgement: Judgement


class DisksListed(Value):
    kind: Literal["disks"] = "disks"
    taken_at: Moment
    unread: Text = ""
    volumes: Annotated[tuple[VolumeOnDisk, ...], Field(max_length=MOST_VOLUMES)] = ()


def judged(facts: DiskFacts, file_system: str, *, snapshots: bool) -> Judgement:
    """Which treatment a volume gets."""
    if facts.pending:
        return _neither(f"{facts.pending} sectors of the disk wait to be replaced")
    if facts.zoned:
        return _neither("the disk writes in zones: arranging would make it slower")
    solid = [
        fact
        for fact, says in (
            ("the system says that it does not spin", facts.spins is False),
            ("it takes free blocks back", facts.gives_back is True),
            ("it says that nothing turns", facts.turns == 0),
            ("it is on a bus for solid-state disks", facts.flash_bus),
        )
        if says
    ]
    spinning = [
        fact
        for fact, says in (
            ("the system says that it spins", facts.spins is True),
            ("it takes no free blocks back", facts.gives_back is False),
            (f"it says that it turns {facts.turns} times a minute", bool(facts.turns)),
        )
        if says
    ]
    if not facts.gives_back and len(spinning) == 1 and spinning[0].startswith("it takes no"):
        # some solid-state disks take nothing back either: alone it says nothing
        spinning = []
    if solid and spinning and facts.spins is not False:
        return _neither(f"its kind is not certain: {spinning[0]}, yet {solid[0]}")
    if len(solid) >= 2 and facts.spins is False and not facts.turns:
        if not facts.gives_back:
            return _neither("a solid-state disk that takes no free blocks back")
        return Judgement(treatment=Treatment.GIVE_BACK, why=" and ".join(solid[:2]))
    if len(spinning) >= 2 and facts.spins is True and not solid:
        if snapshots or file_system in _NEVER_ARRANGED:
            return _neither(f"{file_system or 'the file system'} copies what it rewrites")
        return Judgement(treatment=Treatment.GATHER, why=" and ".join(spinning[:2]))
    return _neither("its kind is not certain: too little is known of the disk")


def _neither(why: str) -> Judgement:
    return Judgement(treatment=Treatment.NONE, why=why)
