"""One change on many machines: one yes, half of them first, and whether it has helped."""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import sha256
from typing import Annotated

from pydantic import Field, model_validator

from phylax.core.ground.names import Key
from phylax.core.ground.text import Text
from phylax.core.ground.values import Demand, Moment, Scalar, Value
from phylax.core.tuning.changes import PROGRAMS, ChangeState
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.setting import settings
from phylax.core.tuning.trials import Judged

LEAST_HALVED = 6
"""Fewer machines are not halved: three on each side are compared at least."""
MOST_MACHINES = 2000


class NewSharedChange(Demand):
    """Let one program run otherwise on many machines, or set one setting; it is a yes to what
    needs one."""

    setting: Key = PROGRAMS
    program: Text = Field("", description="Its key, where the setting is startup programs")
    intent: Intent | None = None
    value: Scalar | None = Field(None, description="What a setting of one value is to be")
    machine_ids: Annotated[tuple[int, ...], Field(min_length=1, max_length=MOST_MACHINES)]
    half_first: bool = Field(
        False, description="Half of them now; the others are what they are compared with"
    )
    comment: Annotated[str, Field(max_length=400)] = Field(
        "", description="What was said to it, for the record"
    )

    @model_validator(mode="after")
    def _says_one_thing(self) -> NewSharedChange:
        if self.setting == PROGRAMS:
            if not self.program or self.intent is None or self.value is not None:
                raise ValueError("say a program and its intent, or a setting and its value")
            return self
        known = settings().get(self.setting)
        if known is None or not known.is_one_value:
            raise ValueError(f"{self.setting!r} is no setting of one value")
        if self.program or self.intent is not None or self.value is None:
            raise ValueError("a setting has a value, and no program")
        if why := known.why_not(self.value):
            raise ValueError(why)
        if self.half_first:
            raise ValueError("what a setting does to a start is not compared; change all at once")
        return self

    @property
    def becomes(self) -> str:
        """What it is to be, in words."""
        if self.intent is not None:
            return str(self.intent)
        return settings()[self.setting].shown(self.value)


class SharedMachine(Value):
    """A machine of a shared change."""

    machine_id: int
    tag: str
    client_name: str
    first: bool = Field(description="Whether it is of the half that was changed first")
    run_id: int | None = Field(None, description="None: its turn has not come")
    changes: tuple[int, ...] = Field(
        (), description="Numbers of the changes that were made there: the machine's, its people's"
    )
    state: ChangeState | None = Field(
        None, description="None: nothing was changed there yet; made, where any is in force"
    )


class SharedChange(Value):
    """One change on many machines, as one."""

    id: int
    setting: str = PROGRAMS
    program: str
    name: str
    becomes: str = Field(description="What it is to be, in words")
    intent: Intent | None = None
    value: Scalar | None = None
    half_first: bool
    who: str
    at: Moment
    rest_at: Moment | None = Field(None, description="When the other half had its turn")
    comment: str = ""
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
