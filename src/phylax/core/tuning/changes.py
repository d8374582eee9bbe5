"""Changes: one alteration of a program's start, with what was there before, and its end."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.ground.names import Key
from phylax.core.ground.text import Text
from phylax.core.ground.values import Demand, Moment, Scalar, Value
from phylax.core.tuning.programs import Intent

ChangeId = Annotated[str, Field(pattern=r"^[0-9a-z-]{8,80}$")]
"""Given by the machine: it finds by it what to put back."""
PROGRAMS = "startup-programs"
"""The setting that has many entries: programs."""
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


class WantedValue(Demand):
    """What a setting of one value is to become; refused where it is something else by now."""

    setting: Key
    person: Text = Field("", description="The person whose it is; empty: the machine's")
    previous: Scalar | None = Field(description="None: it was not set")
    value: Scalar


class ChangeMade(Value):
    """What the machine did of what was wanted."""

    id: ChangeId | None = Field(None, description="None: nothing was changed")
    setting: Key = PROGRAMS
    program: Text = Field("", description="Its key, where the setting is startup programs")
    person: Text = Field("", description="The person whose setting it is; empty: the machine's")
    name: Text
    before: Text = Field(description="In words: an intent, or the setting's value")
    after: Text
    at: Moment
    refused: Text = Field("", description="Why it was not done; empty where it was")
    state: ChangeState = ChangeState.MADE
    at_machine: bool = Field(False, description="Put back at the machine itself, not by an order")

    @property
    def shown(self) -> str:
        """What it is about, for people."""
        return f"{self.name} of {self.person}" if self.person else self.name


class Drifted(Value):
    """A change of which a survey finds that somebody else altered it since."""

    id: ChangeId
    program: Text = ""
    name: Text
    expected: Text
    value: Text | None = Field(None, description="None: it is not there any more")


class Change(Value):
    """A change as the shop keeps it."""

    number: int
    machine_id: int
    run_id: int
    setting: str = PROGRAMS
    program: str = ""
    person: str = ""
    name: str
    before: str
    after: str
    at: Moment
    who: str
    state: ChangeState
    ended_at: Moment | None = Field(None, description="When it was put back, or found altered")
    ended_by: str = ""
    comment: str = Field("", description="What was said to it: why, or who agreed")
    drifted_at: Moment | None = Field(
        None, description="Since when looks find that somebody else altered it"
    )
    drifted_to: str | None = None

    @property
    def shown(self) -> str:
        """What it is about, for people."""
        return f"{self.name} of {self.person}" if self.person else self.name

    @property
    def about(self) -> tuple[str, str, str]:
        """What is changed: the same for changes of the same thing."""
        return self.setting, self.program, self.person

    @property
    def runs(self) -> str:
        """The verb that goes with its values: a program runs, a setting is."""
        return "runs" if self.setting == PROGRAMS else "is"
