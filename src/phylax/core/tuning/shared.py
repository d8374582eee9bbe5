"""One change on many machines: one yes, half of them first, and whether it has helped."""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import sha256
from typing import Annotated

from pydantic import Field

from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.programs import Intent, Text
from phylax.core.tuning.trials import Judged
from phylax.core.values import Demand, Moment, Value

LEAST_HALVED = 6
"""Fewer machines are not halved: three on each side are compared at least."""
MOST_MACHINES = 2000


class NewSharedChange(Demand):
    """Let one program run otherwise on many machines; it is a yes to what needs one."""

    program: Text = Field(description="Its key")
    intent: Intent
    machine_ids: Annotated[tuple[int, ...], Field(min_length=1, max_length=MOST_MACHINES)]
    half_first: bool = Field(
        False, description="Half of them now; the others are what they are compared with"
    )
    word: Annotated[str, Field(max_length=400)] = Field(
        "", description="What was said to it, for the record"
    )


class SharedMachine(Value):
    """A machine of a shared change."""

    machine_id: int
    tag: str
    client_name: str
    first: bool = Field(description="Whether it is of the half that was changed first")
    run_id: int | None = Field(None, description="None: its turn has not come")
    change: int | None = Field(None, description="Number of the change that was made there")
    state: ChangeState | None = Field(None, description="None: nothing was changed there yet")


class SharedChange(Value):
    """One change on many machines, as one."""

    id: int
    program: str
    name: str
    intent: Intent
    half_first: bool
    who: str
    at: Moment
    rest_at: Moment | None = Field(None, description="When the other half had its turn")
    word: str = ""
    machines: tuple[SharedMachine, ...]
    judged: Judged | None = Field(
        None, description="How the first half moved against the other; none: not halved"
    )


def first_half(machine_ids: Sequence[int], seed: str) -> frozenset[int]:
    """Half of some machines, by chance and the same each time; all of them where they are too few
    to be compared."""
    if len(machine_ids) < LEAST_HALVED:
        return frozenset(machine_ids)
    by_chance = sorted(machine_ids, key=lambda number: sha256(f"{seed}:{number}".encode()).digest())
    return frozenset(by_chance[: (len(by_chance) + 1) // 2])
