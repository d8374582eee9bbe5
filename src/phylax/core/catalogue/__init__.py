"""The catalogue: every category of files that can be let go, as data.

One TOML file for each category, checked by `Category` when loaded. Adding a category is adding a
file; agent, service, command line and console take it from here.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib import resources
from typing import Annotated, Literal

from pydantic import Field, field_validator

from phylax.core.retention import Caution, Rule
from phylax.core.shop import System
from phylax.core.values import Demand

AgeBasis = Literal["modified", "deleted", "created", "used"]
Shape = Literal["files", "trash"]
Base = Literal[
    "user-temp", "user-trash", "user-downloads", "user-cache", "user-local-data", "volume-trash"
]


class Where(Demand):
    """One place of a category on some systems: a named location and patterns below it."""

    systems: tuple[System, ...] = Field(min_length=1)
    base: Base = Field(description="A location that each machine kind resolves by itself")
    below: tuple[str, ...] = Field(
        ("",), description="Folders below the location; * stands for one folder name"
    )
    program: tuple[str, ...] = Field(
        (), description="Process names of which none may run while this place is cleaned"
    )
    label: str = Field("", description="What people call this place, for instance a browser")

    @field_validator("below")
    @classmethod
    def _stay_below(cls, below: tuple[str, ...]) -> tuple[str, ...]:
        for path in below:
            if path.startswith("/") or ".." in path.split("/"):
                raise ValueError(f"{path!r} must be a path below the location, without '..'")
        return below


class Category(Demand):
    """A kind of files that can be let go."""

    key: Annotated[str, Field(pattern=r"^[a-z]+(-[a-z]+)*$")]
    order: int = Field(description="Place in ledgers, smallest first")
    name: str
    what: str = Field(description="What these files are, for people")
    cost: str = Field(description="What losing them costs, in one sentence a client understands")
    caution: Caution
    age: AgeBasis = Field(description="What an item's age is measured from")
    shape: Shape = "files"
    admin: bool = Field(False, description="Needs administrator rights")
    rule: Rule
    where: tuple[Where, ...] = Field(min_length=1)

    def on(self, system: System) -> tuple[Where, ...]:
        """The places of this category on a system."""
        return tuple(w for w in self.where if system in w.systems)


def read_category(text: str) -> Category:
    """A category from its TOML; ValueError (pydantic's) names the field that is wrong."""
    category = Category.model_validate(tomllib.loads(text))
    if category.rule.off is None or category.rule.keep_for is None:
        raise ValueError(f"{category.key}: the default rule must set both off and keep_for")
    return category


@cache
def catalogue() -> Mapping[str, Category]:
    """All categories by key, in ledger order."""
    files = (f for f in resources.files(__name__).iterdir() if f.name.endswith(".toml"))
    found = sorted((read_category(f.read_text("utf-8")) for f in files), key=lambda c: c.order)
    return {category.key: category for category in found}


def category(key: str) -> Category:
    """One category; KeyError names the keys there are."""
    try:
        return catalogue()[key]
    except KeyError:
        raise KeyError(f"no category {key!r}; there are {', '.join(catalogue())}") from None
