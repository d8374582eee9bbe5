"""The hold: what waits some days before it goes for good, and how it is put back.

An item is held on its own volume under a number of its batch, the things that one run held of one
category on one volume.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Amount, Demand, Moment, Value

BatchName = Annotated[str, Field(pattern=r"^[0-9]{1,18}\.[a-z-]{1,60}\.[0-9a-f]{8,32}$")]
Number = Annotated[int, Field(ge=1, le=2**53)]
HeldStatus = Literal["held", "put back", "gone"]


class IfTaken(StrEnum):
    """What to do with an item whose name is taken again where it lay."""

    LEAVE = "leave"
    """It stays held."""
    BESIDE = "beside"
    """It is put beside what is there, under a name of its own."""


class HeldItem(Value):
    """One thing in the hold."""

    number: Number
    place: str = Field(description="The location it was found in, as the machine writes it")
    path: str = Field(description="Path below the place, with '/' between folders")
    size: Amount
    status: HeldStatus = "held"
    status_at: Moment | None = None


class Hold(Value):
    """What one run held of one category on one volume."""

    id: int
    machine_id: int
    machine_tag: str
    run_id: int | None = Field(
        None, description="None: a run that the records do not know, for they were set back"
    )
    category: str
    mount: str
    held_at: Moment
    expires_at: Moment = Field(description="Then it goes for good")
    held: Tally = Field(description="What is held now")
    put_back: Tally
    deleted: Tally


class HeldPick(Demand):
    """Things of one hold, chosen by a person."""

    hold_id: int
    numbers: Annotated[tuple[Number, ...], Field(max_length=5000)] = Field(
        (), description="Which of them; empty for all that is held"
    )


class HeldPicks(Value):
    """What one run is to put back or to let go, as it was asked for."""

    picks: tuple[HeldPick, ...]
    if_taken: IfTaken = IfTaken.LEAVE


class BatchPick(Value):
    """The same as the machine knows it."""

    batch: BatchName
    numbers: tuple[int, ...] = ()


def as_ranges(numbers: Iterable[int]) -> Iterator[tuple[int, int]]:
    """Ascending numbers as inclusive ranges, so that a hundred thousand fit into a message."""
    first = last = -1
    for number in numbers:
        if number == last + 1 and first > 0:
            last = number
            continue
        if first > 0:
            yield first, last
        first = last = number
    if first > 0:
        yield first, last
