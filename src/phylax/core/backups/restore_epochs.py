"""Lives of the service's records: an agent notices where they were set back to an earlier copy.

With each answer to an agent goes which life the records are in and how far it has come. Where it
comes younger than it was known, or is another, what was told since may be lost: the agent tells
again what it holds, and a new life begins, so that agents who call later notice as well.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from pydantic import Field

from phylax.core.ground.values import Value

HEADER = "Phylax-Records"
"""The field of an answer, as `name;come_to`."""
_SAID = re.compile(r"([0-9a-f]{32});([0-9]{1,18})")


class RestoreEpoch(Value):
    """One life of the records."""

    name: str
    come_to: int = Field(description="Number of the newest event")

    def said(self) -> str:
        return f"{self.name};{self.come_to}"


def heard(text: str) -> RestoreEpoch | None:
    """What an answer's field says; None where it says nothing that can be."""
    match = _SAID.fullmatch(text)
    return RestoreEpoch(name=match[1], come_to=int(match[2])) if match else None


class Change(NamedTuple):
    """What an answer says of the records, against what was known."""

    known: RestoreEpoch
    """What is known from now on."""
    lost: bool
    """What was told before may be lost."""
    set_back: bool
    """It is the same life, younger than it was: whoever keeps it does not know yet."""


def met(known: RestoreEpoch | None, now: RestoreEpoch) -> Change:
    if known is None:
        return Change(now, lost=False, set_back=False)
    if now.name != known.name:
        return Change(now, lost=True, set_back=False)
    return Change(now, lost=now.come_to < known.come_to, set_back=now.come_to < known.come_to)
