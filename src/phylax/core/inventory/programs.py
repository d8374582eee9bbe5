"""Programs that are installed on machines, and what removing one would take along."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.checks.findings import Finding, Severity
from phylax.core.ground.text import Text
from phylax.core.ground.values import BytesTold, Moment, Value

MOST_INSTALLED = 5000
MOST_ALONG = 200


class Removal(StrEnum):
    """How a program can be removed."""

    BY_AGENT = "by the agent"
    BY_HAND = "by hand"
    """Its own remover asks questions."""
    NEVER = "never"
    """The system needs it."""


class InstalledProgram(Value):
    """A program that is installed."""

    key: Text = Field(description="What the system calls it")
    name: Text
    version: Text = ""
    maker: Text = ""
    size: BytesTold | None = None
    last_used: Moment | None = Field(None, description="None: nobody knows")
    installed_at: Moment | None = None
    trial: bool = Field(False, description="It says of itself that it is trial version")
    removal: Removal = Removal.BY_HAND
    why: Text = Field("", description="Why it is not removed by the agent")


class ProgramsListed(Value):
    kind: Literal["programs"] = "programs"
    taken_at: Moment
    unread: Text = ""
    programs: Annotated[tuple[InstalledProgram, ...], Field(max_length=MOST_INSTALLED)] = ()


def of_trials(programs: Iterable[InstalledProgram]) -> list[Finding]:
    """A word about each program that is trial version only."""
    return [
        Finding(severity=Severity.NOTE, what="For trying out only", where=program.name)
        for program in programs
        if program.trial
    ]


class ProgramOnMachine(Value):
    """A program over the shop: on one machine."""

    machine_id: int
    machine_tag: str
    client_name: str
    program: InstalledProgram
    taken_at: Moment


class Along(Value):
    """What goes with a program that is removed."""

    name: Text
    version: Text = ""


class RemovalTried(Value):
    """What removing a program would do, tried without doing it: what a person says yes to."""

    program: Text
    version: Text
    along: Annotated[tuple[Along, ...], Field(max_length=MOST_ALONG)] = ()
    frees: BytesTold | None = None
    can_come_back: bool = Field(description="Whether this version can be had again")
    refused: Text = Field("", description="Why it cannot be removed; empty where it can")
