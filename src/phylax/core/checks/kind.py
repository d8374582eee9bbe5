"""Kinds of checks, as data.

One TOML file for each below `kinds/`, checked by `CheckKind` when loaded. How a check is done is
the agent's; what it is, for whom and what its findings stop is here. The format: docs/checks.md.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from enum import StrEnum
from functools import cache
from importlib import resources

from pydantic import Field, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.names import Key
from phylax.core.ground.values import Demand


class TargetKind(StrEnum):
    """What a check is of, one at a time."""

    MACHINE = "machine"
    VOLUME = "volume"
    DISK = "disk"
    PERSON = "person"


class CheckKind(Demand):
    """One thing that can be checked on a machine."""

    key: Key
    order: int = Field(description="Place in listings and in a run, smallest first")
    name: str
    notice: str = Field(description="What a person at the machine will notice while it runs")
    target: TargetKind
    systems: tuple[System, ...] = Field(min_length=1)
    modes: dict[str, str] = Field(
        default_factory=dict, description="Ways to do it, with what each means; the first is usual"
    )
    counts: str = Field("", description="What its progress counts, as in 'files'; empty: nothing")
    blocks: tuple[Key, ...] = Field(
        (),
        description="Steps and actions that its findings stop until somebody has dealt with them",
    )
    in_step: bool = Field(True, description="The step 'check' of a routine does it")

    @property
    def usual_mode(self) -> str:
        return next(iter(self.modes), "")

    def why_not(self, mode: str) -> str | None:
        """Why a mode is none of this check, saying what is allowed; None where it is one."""
        if mode == self.usual_mode or mode in self.modes:
            return None
        if not self.modes:
            return f"{self.key} is done in one way only"
        return f"{self.key} is done as {', '.join(self.modes)}, not {mode!r}"

    @model_validator(mode="after")
    def _stops_others(self) -> CheckKind:
        if self.key in self.blocks:
            raise ValueError(f"the findings of {self.key} cannot stop itself")
        return self


def read_kind(text: str) -> CheckKind:
    """A kind from its TOML. ValueError (pydantic's, or TOML's) names what is wrong in it."""
    return CheckKind.model_validate(tomllib.loads(text))


@cache
def kinds() -> Mapping[str, CheckKind]:
    """All kinds by key, in their order. ValueError where a file is wrong."""
    folder = resources.files(__package__) / "kinds"
    loaded = sorted(
        (
            read_kind(file.read_text(encoding="utf-8"))
            for file in folder.iterdir()
            if file.name.endswith(".toml")
        ),
        key=lambda kind: kind.order,
    )
    return {kind.key: kind for kind in loaded}
