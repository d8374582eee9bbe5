"""Changes: one alteration of a program's start, with what was there before, and its end."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.tuning.programs import Intent, Text
from phylax.core.values import Demand, Moment, Value

ChangeId = Annotated[str, Field(pattern=r"^[0-9a-z-]{8,80}$")]
"""Given by the machine: it finds by it what to put back."""
MOST_WANTED = 200


class ChangeState(StrEnum):
    """What has become of a change."""

    MADE = "made"
    PUT_BACK = "put back"
    ALTERED = "altered since"
    """Somebody altered it after us: it is not put back by us."""
    UNDONE = "undone by the machine"
    """The machine could not reach the service with it, and went back by itself."""


class Wanted(Demand):
    """What is to become of one program; the machine refuses it where it runs otherwise by now."""

    program: Text = Field(description="Its key, as the machine has it")
    was: Intent
    intent: Intent


class ChangeMade(Value):
    """What the machine did of what was wanted."""

    id: ChangeId | None = Field(None, description="None: nothing was changed")
    program: Text
    name: Text
    before: Intent
    after: Intent
    at: Moment
    refused: Text = Field("", description="Why it was not done; empty where it was")
    state: ChangeState = ChangeState.MADE
    there: bool = Field(False, description="Put back at the machine itself, not by an order")


class Drifted(Value):
    """A change of which a look finds that somebody else altered it since."""

    id: ChangeId
    program: Text
    name: Text
    wanted: Intent
    now: Intent | None = Field(None, description="None: the program is not there any more")


class Change(Value):
    """A change as the shop keeps it."""

    number: int
    machine_id: int
    run_id: int
    program: str
    name: str
    before: Intent
    after: Intent
    at: Moment
    who: str
    state: ChangeState
    ended_at: Moment | None = Field(None, description="When it was put back, or found altered")
    ended_by: str = ""
    word: str = Field("", description="What was said to it: why, or who agreed")
    drifted_at: Moment | None = Field(
        None, description="Since when looks find that somebody else altered it"
    )
    drifted_to: Intent | None = None
