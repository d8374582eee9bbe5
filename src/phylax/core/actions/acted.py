"""What an action came to, part by part: a volume, an update, a program."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

from pydantic import Field

from phylax.core.ground.quantities import count, headed
from phylax.core.ground.text import Text
from phylax.core.ground.values import Value
from phylax.core.inventory.programs import RemovalTried

MOST_PARTS = 1000


class ActEnd(StrEnum):
    """How one part of an action ended."""

    DONE = "done"
    NOTHING = "nothing to do"
    REFUSED = "refused"
    """Something forbids it: nothing was done."""
    FAILED = "failed"
    """It was tried, and what was read back is not what should be."""


class ActionPart(Value):
    """What became of one volume, update or program."""

    target: Text = Field(description="The volume, program or update; empty for the machine")
    end: ActEnd
    before: Text = ""
    after: Text = ""
    why: Text = ""
    needs_restart: bool = False
    tried: RemovalTried | None = None

    @property
    def in_words(self) -> str:
        """A sentence for the record, without its stop."""
        of = f"{headed(self.target)} " if self.target else ""
        if self.end is ActEnd.DONE:
            change = f"{self.before}, now {self.after}" if self.before else self.after or "done"
            return f"{of}{change}" + (f", {self.why}" if self.why else "")
        return f"{of}{self.end}" + (f", {self.why}" if self.why else "")


class UnderWay(Value):
    """What is about to be done to one part: where the work is cut off, it is known by this what
    came of it."""

    target: Text
    before: Text
    after: Text


def acted_in_words(parts: Sequence[ActionPart], named: int = 5) -> str:
    """What became of an action; what went wrong is named first."""
    order = [ActEnd.FAILED, ActEnd.REFUSED, ActEnd.DONE, ActEnd.NOTHING]
    telling = sorted(parts, key=lambda part: order.index(part.end))
    words = "; ".join(part.in_words for part in telling[:named])
    rest = len(parts) - named
    return words + (f"; and {count(rest, 'part')} more" if rest > 0 else "")
