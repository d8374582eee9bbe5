"""Attention: what needs a person, in order, each with its evidence and the next thing to do."""

from phylax.core.attention.causes import CAUSES, SILENT_AFTER, SOON, look
from phylax.core.attention.findings import (
    Attention,
    AttentionEdit,
    Cause,
    Finding,
    Handling,
    HeldOn,
    MachineCondition,
    MadeWorse,
    NextStep,
    OftenLeft,
)
from phylax.core.attention.keeping import (
    Keep,
    KeptFinding,
    Together,
    in_groups,
    in_order,
    is_worse,
    keep,
    machines_that_need,
)

__all__ = [
    "CAUSES",
    "SILENT_AFTER",
    "SOON",
    "Attention",
    "AttentionEdit",
    "Cause",
    "Finding",
    "Handling",
    "HeldOn",
    "Keep",
    "KeptFinding",
    "MachineCondition",
    "MadeWorse",
    "NextStep",
    "OftenLeft",
    "Together",
    "in_groups",
    "in_order",
    "is_worse",
    "keep",
    "look",
    "machines_that_need",
]
