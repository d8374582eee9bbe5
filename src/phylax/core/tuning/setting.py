"""Settings: every thing of a machine that can be read and mostly changed, as data.

One TOML file for each setting below `settings/`, checked by `Setting` when loaded. A setting of one
value is a file alone; agent, service, command line and console take it from here. The format:
docs/settings.md.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from enum import StrEnum
from functools import cache
from importlib import resources
from typing import Literal

from pydantic import Field, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.names import Key
from phylax.core.ground.values import Demand, Scalar


class Reversibility(StrEnum):
    """How well a change is put back."""

    EXACT = "exact"
    APPROXIMATE = "approximate"
    NONE = "none"


class Kind(StrEnum):
    """What a setting holds."""

    SWITCH = "switch"
    CHOICE = "choice"
    NUMBER = "number"
    PROGRAMS = "programs"
    ENTRIES = "entries"


class TakesEffect(StrEnum):
    """What has to happen before a change counts."""

    NOTHING = "nothing"
    SIGN_IN = "sign-in"
    RESTART = "restart"


class DependsOn(Demand):
    """A question that decides, and the answer with which something changes."""

    question: Key
    on: Literal["yes", "no"]


class Question(Demand):
    """What is asked once of a client, or of one machine, in a client's words."""

    key: Key
    order: int
    text: str = Field(description="As the client is asked")
    why: str = Field(description="What hangs on it, for the technician")
    program: Literal["client", "machine"] = "client"


class Setting(Demand):
    """One thing that can be read on a machine."""

    key: Key
    order: int = Field(description="Place in listings, smallest first")
    name: str
    notice: str = Field(description="What a person at the machine will notice when it changes")
    cost: str = Field(description="What the change costs, in one sentence a client understands")
    kind: Kind
    systems: tuple[System, ...] = Field(min_length=1)
    choices: dict[str, str] = Field(
        default_factory=dict, description="What a choice can be, with what each means"
    )
    least: int | None = Field(None, description="Of a number")
    maximum: int | None = Field(None, description="Of a number")
    unit: str = ""
    per_person: bool = Field(False, description="Each person of the machine has their own")
    depends_on: DependsOn | None = None
    takes_effect: TakesEffect = TakesEffect.NOTHING
    goes_back: Reversibility = Reversibility.EXACT
    needs_approval: bool = Field(False, description="Never changed without a person's approval")
    plugged_in: bool = Field(False, description="Not changed while on battery")
    disk_known: bool = Field(False, description="Not changed while the kind of disk is not known")
    could_cut_off: bool = Field(
        False,
        description="A change could cost network, sign-in or start: it undoes itself unless the "
        "machine reaches the service again",
    )
    default: Scalar | None = Field(
        None, description="The rule it ships with; none: nothing changes"
    )

    @model_validator(mode="after")
    def _is_consistent(self) -> Setting:
        if (self.kind is Kind.CHOICE) != bool(self.choices):
            raise ValueError("a choice lists its choices, nothing else does")
        if (self.kind is Kind.NUMBER) != (self.least is not None and self.maximum is not None):
            raise ValueError("a number has a least and a most, nothing else has")
        if self.goes_back is Reversibility.NONE and not self.needs_approval:
            raise ValueError("what cannot be put back always needs approval")
        if self.default is not None and (why := self.why_not(self.default)):
            raise ValueError(f"the rule it ships with is none: {why}")
        return self

    @property
    def is_one_value(self) -> bool:
        return self.kind in (Kind.SWITCH, Kind.CHOICE, Kind.NUMBER)

    def why_not(self, value: object) -> str | None:
        """Why a value is none of this setting, saying what is allowed; None if it is one."""
        match self.kind:
            case Kind.SWITCH:
                return None if isinstance(value, bool) else f"{self.key} is true or false"
            case Kind.CHOICE:
                if value in self.choices:
                    return None
                return f"{value!r} is no choice of {self.key}: {', '.join(self.choices)}"
            case Kind.NUMBER:
                assert self.least is not None and self.maximum is not None
                is_number = isinstance(value, int) and not isinstance(value, bool)
                if is_number and self.least <= int(str(value)) <= self.maximum:
                    return None
                unit = f" {self.unit}" if self.unit else ""
                return f"{self.key} is {self.least} to {self.maximum}{unit}, not {value!r}"
            case _:
                return f"{self.key} has many entries; say what is wanted of one of them"

    def shown(self, value: Scalar | None) -> str:
        """A value in words."""
        if value is None:
            return "not set"
        if isinstance(value, bool):
            return "on" if value else "off"
        if isinstance(value, int):
            return f"{value} {self.unit}".strip()
        return self.choices.get(value, value)


def read_setting(text: str) -> Setting:
    """A setting from its TOML. ValueError (pydantic's, or TOML's) names what is wrong in it."""
    return Setting.model_validate(tomllib.loads(text))


@cache
def settings() -> Mapping[str, Setting]:
    """All settings by key, in their order. ValueError where a file is wrong."""
    folder = resources.files(__package__) / "settings"
    loaded = sorted(
        (
            read_setting(file.read_text(encoding="utf-8"))
            for file in folder.iterdir()
            if file.name.endswith(".toml")
        ),
        key=lambda setting: setting.order,
    )
    for setting in loaded:
        if setting.depends_on and setting.depends_on.question not in questions():
            raise ValueError(f"{setting.key} hangs on a question that there is not")
    return {setting.key: setting for setting in loaded}


@cache
def questions() -> Mapping[str, Question]:
    """All questions by key, in their order."""
    text = (resources.files(__package__) / "questions.toml").read_text(encoding="utf-8")
    loaded = [Question.model_validate(table) for table in tomllib.loads(text)["question"]]
    return {question.key: question for question in sorted(loaded, key=lambda q: q.order)}
