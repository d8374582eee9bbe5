"""How many things, and their bytes."""

from __future__ import annotations

from pydantic import Field

from phylax.core.ground.values import Amount, Value


class Tally(Value):
    count: Amount = 0
    size: Amount = Field(0, description="Bytes, as they count on the volume")

    def __add__(self, other: Tally) -> Tally:
        return Tally(count=self.count + other.count, size=self.size + other.size)
