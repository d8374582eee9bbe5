"""A listing of machines: which of them, in what order."""

from __future__ import annotations

from enum import StrEnum

from phylax.core.ground.machines import System
from phylax.core.ground.values import Value


class MachineSort(StrEnum):
    NUMBER = "number"
    TAG = "tag"
    CLIENT = "client"
    TIGHTEST = "tightest"
    CROSSING = "crossing"
    CLEANED = "cleaned"
    ROUND = "round"
    SEEN = "seen"


class MachineChoice(Value):
    """Which machines a listing holds; nothing chosen means all of them."""

    words: str = ""
    client_id: int | None = None
    systems: tuple[System, ...] = ()
    nearly_full: bool = False
    without_round: bool = False
    not_enrolled: bool = False
    retired: bool = False
    """Only those that are; else only those that are not."""
