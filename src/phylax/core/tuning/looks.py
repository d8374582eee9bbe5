"""A look at a machine's settings, and what it comes to by the shop's rules."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.ground.values import Moment, Value
from phylax.core.tuning.changes import MOST_WANTED, Drifted
from phylax.core.tuning.programs import Intent, Program
from phylax.core.tuning.setting import Setting
from phylax.core.tuning.verdicts import Seen, Verdict

MOST_PROGRAMS = 2000
MOST_VALUES = 500
Programs = Annotated[tuple[Program, ...], Field(max_length=MOST_PROGRAMS)]


class SettingsSurvey(Value):
    """What an agent read of its machine's settings; nothing was touched."""

    taken_at: Moment
    programs: Programs = ()
    unread: Annotated[str, Field(max_length=500)] = Field(
        "", description="Why nothing could be read; empty where it could"
    )
    values: Annotated[tuple[Seen, ...], Field(max_length=MOST_VALUES)] = Field(
        (), description="Settings of one value, of the machine and of its people"
    )
    drifted: Annotated[tuple[Drifted, ...], Field(max_length=MOST_WANTED)] = ()


class JudgedProgram(Value):
    """A program of a machine, and what becomes of it."""

    program: Program
    now: Intent
    known_id: int | None = Field(None, description="The entry of the notebook about it")
    verdict: Verdict


class JudgedValue(Value):
    """A setting of one value, and what becomes of it."""

    setting: Setting
    seen: Seen
    now: str = Field(description="The value in words")
    becomes: str = Field("", description="What it is to be, in words; empty: it stays")
    verdict: Verdict


class JudgedSettings(Value):
    """The newest survey at a machine's settings, judged by what counts now."""

    machine_id: int
    taken_at: Moment
    unread: str = ""
    programs: tuple[JudgedProgram, ...] = ()
    values: tuple[JudgedValue, ...] = ()


class UnknownProgram(Value):
    """A program that not in our notes yet, over the whole shop."""

    key: str
    name: str
    description: str
    package: str
    signed_by: str
    digest: str
    path: str
    machines: int
    clients: int
    machine_tags: tuple[str, ...] = Field(description="Some of the machines")
