"""Startup programs: for each program, everything that starts it, and what an intent makes of it.

Switching off one way of starting is how things come back, so an intent is of the program and says
for each of its starters what becomes of it.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import Annotated, NamedTuple

from pydantic import Field

from phylax.core.ground.text import Text
from phylax.core.ground.values import BytesTold, Value
from phylax.core.tuning.setting import Reversibility


class Intent(StrEnum):
    """When a program is to run, from the soonest to never."""

    AT_START = "at start"
    AFTER_START = "after start"
    ON_DEMAND = "on demand"
    OFF = "off"


class StarterKind(StrEnum):
    """What starts a program, as people would say it."""

    SIGN_IN = "sign-in"
    """An entry that starts it when a person signs in."""
    START = "start of the machine"
    """A service that starts with the machine, or with a person's session."""
    TIMER = "timer"
    SOCKET = "connection"
    """A socket, pipe or port on which the system listens for it."""
    MESSAGE = "message"
    """A name under which other programs call it, and the system then starts it."""
    PATH = "file that appears"
    DEVICE = "device that appears"


class Starter(Value):
    """One thing that starts a program."""

    key: Text = Field(description="Its name on this machine, the same at every survey")
    kind: StarterKind
    on: bool = Field(description="Whether it would start the program now")
    later: bool = Field(False, description="It starts the program some time after the start")
    person: Text = Field("", description="The person whose it is; empty: the system's")
    when: Text = Field("", description="A timer's time, a socket's address, as it is written")
    settable: bool = Field(True, description="Whether it can be switched here")
    can_wait: bool = Field(False, description="Whether it can be made to start later")
    barred: bool = Field(False, description="It cannot be started even when something asks for it")
    can_bar: bool = Field(False, description="Whether it can be barred")
    goes_back: Reversibility = Reversibility.EXACT

    @property
    def is_main(self) -> bool:
        """Whether it starts the program together with the machine or a person's session."""
        return self.kind in (StarterKind.SIGN_IN, StarterKind.START)

    @property
    def is_unasked(self) -> bool:
        """Whether it starts the program though nothing asked for it."""
        return self.is_main or self.kind is StarterKind.TIMER


class Switch(NamedTuple):
    """What becomes of one starter."""

    starter: Starter
    on: bool
    later: bool = False
    barred: bool = False

    @property
    def is_by_hand(self) -> bool:
        """Whether nothing here can do it."""
        return not self.starter.settable or (
            self.on and self.later != self.starter.later and not self.starter.can_wait
        )


def switched(program: Program, plan: Iterable[Switch]) -> Program:
    """A program once each switch of a plan is set."""
    by_key = {switch.starter.key: switch for switch in plan}
    starters = tuple(
        starter.model_copy(update={"on": s.on, "later": s.later, "barred": s.barred})
        if (s := by_key.get(starter.key))
        else starter
        for starter in program.starters
    )
    return program.model_copy(update={"starters": starters})


class StartCost(Value):
    """What a program takes of a start of the machine: medians of the last starts."""

    processor_ms: int = Field(ge=0)
    bytes_read: BytesTold = 0
    starts: int = Field(ge=0, description="In how many starts it was measured")


class Program(Value):
    """A program of a machine, with everything that starts it."""

    key: Text = Field(description="What it is recognised by: package, signature and path, or path")
    name: Text
    package: Annotated[str, Field(max_length=200)] = ""
    signed_by: Text = Field(
        "", description="Who signed its file, where the system has checked that"
    )
    path: Text = ""
    digest: Annotated[str, Field(max_length=80)] = Field("", description="SHA-256 of its file")
    description: Text = Field("", description="What it says of itself")
    starters: Annotated[tuple[Starter, ...], Field(max_length=200)] = ()
    guarded: Text = Field("", description="Why it is guarded, by facts of the system; empty: not")
    needed_by: Annotated[tuple[Text, ...], Field(max_length=50)] = Field(
        (), description="What of the machine stays and needs it"
    )
    cost: StartCost | None = None
    unread: Text = Field("", description="Why its starters could not be read")

    @property
    def now(self) -> Intent:
        """The intent that its starters amount to; what a timer starts may wait."""
        on = [starter for starter in self.starters if starter.on]
        if any(starter.is_main and not starter.later for starter in on):
            return Intent.AT_START
        if any(starter.is_unasked for starter in on):
            return Intent.AFTER_START
        return Intent.ON_DEMAND if self._can_be_asked else Intent.OFF

    @property
    def _can_be_asked(self) -> bool:
        """Whether something or somebody could start it, with all that starts it unasked off."""
        if any(starter.kind is StarterKind.SIGN_IN for starter in self.starters):
            return True  # a person opens it
        asked = [starter for starter in self.starters if not starter.is_unasked]
        barrable = [starter for starter in self.starters if starter.can_bar]
        if not asked and not barrable:
            return True
        return any(s.on for s in asked) or any(not s.barred for s in barrable)

    def nearest(self, intent: Intent) -> Intent:
        """What can be had of an intent: what a person can open anyway runs when asked at most."""
        if intent is Intent.OFF and self.now is not intent and not self.plan(intent):
            return Intent.ON_DEMAND
        return intent

    def plan(self, intent: Intent) -> tuple[Switch, ...]:
        """What becomes of its starters, so that it runs by an intent; those that stay are left out.

        Empty where it does so already, and where nothing of it could.
        """
        if self.now is intent:
            return ()
        match intent:
            case Intent.OFF:
                plan = tuple(
                    Switch(s, on=False, barred=s.can_bar)
                    for s in self.starters
                    if s.on or (s.can_bar and not s.barred)
                )
                return plan if switched(self, plan).now is intent else ()
            case Intent.ON_DEMAND:
                opened = [] if self._can_be_asked else self.starters
                return (
                    *(Switch(s, on=False) for s in self.starters if s.on and s.is_unasked),
                    *(
                        Switch(s, on=not s.is_unasked)
                        for s in opened
                        if s.barred or not s.is_unasked
                    ),
                )
        mains = [starter for starter in self.starters if starter.is_main]
        later = intent is Intent.AFTER_START
        if not mains and later:
            return tuple(Switch(s, on=True) for s in self.starters if s.kind is StarterKind.TIMER)
        running = [starter for starter in mains if starter.on]
        return tuple(
            Switch(s, on=True, later=later)
            for s in running or mains
            if not s.on or s.later != later
        )
