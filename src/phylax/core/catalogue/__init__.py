"""The catalogue: every category of files that can be let go, as data.

One TOML file for each category, checked by `Category` when loaded. Adding a category is adding a
file; agent, service, command line and console take it from here. The format: docs/catalogue.md.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from datetime import timedelta
from functools import cache
from importlib import resources
from typing import Annotated, Literal, get_args

from pydantic import Field, field_validator, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.quantities import show_size, show_span
from phylax.core.ground.suggestions import nearest
from phylax.core.ground.values import Demand
from phylax.core.retention import Caution, Rule, RuleInForce

AgeBasis = Literal["modified", "deleted", "created", "used"]
Shape = Literal["files", "folders", "trash", "sites", "visits", "things"]
Folder = Literal[
    "user-home", "user-temp", "user-trash", "user-downloads", "user-cache", "user-config",
    "user-local-data", "user-roaming-data", "user-logs", "public-home", "volume-trash",
    "system-temp", "system-cache", "system-logs", "system-data", "system-folder", "system-volume",
    "crash-reports", "journal", "own-folders",
]  # fmt: skip
"""Locations that are folders; each machine kind resolves them by itself."""
Source = Literal[
    "package-revisions", "old-kernels", "restore-points", "local-snapshots", "hibernation-image",
    "programs",
]  # fmt: skip
"""Where things come from that are no plain files; each machine kind knows its own."""
Base = Folder | Source
FOLDERS: tuple[Folder, ...] = get_args(Folder)
SOURCES: tuple[Source, ...] = get_args(Source)
_LISTED_FIELDS = frozenset({"off", "keep_for", "only_larger"})


class Lock(Demand):
    """A file or link that a program keeps in its profile while it is open."""

    base: Folder | None = Field(None, description="A location; the place itself if left out")
    below: str = Field(description="Path below it, with '/' between folders")


class Where(Demand):
    """One place of a category on some systems: a named location and patterns below it."""

    systems: tuple[System, ...] = Field(min_length=1)
    base: Base = Field(description="A location that each machine kind resolves by itself")
    below: tuple[str, ...] = Field(
        ("",), description="Folders below the location; * stands for part of one folder's name"
    )
    names: tuple[str, ...] = Field(
        (), description="Which files count, or which folders; * and ? as in a shell. Empty: all"
    )
    leave: tuple[str, ...] = Field(
        (), description="Names of files and folders that are left out, at any depth"
    )
    program: tuple[str, ...] = Field(
        (), description="Process names of which none may run while this place is cleaned"
    )
    locks: tuple[Lock, ...] = Field(
        (), description="What tells that the program is open, whatever its process is called"
    )
    label: str = Field("", description="What people call this place, for instance a browser")

    @field_validator("below")
    @classmethod
    def _stay_below(cls, below: tuple[str, ...]) -> tuple[str, ...]:
        for path in below:
            if path.startswith("/") or ".." in path.split("/"):
                raise ValueError(f"{path!r} must be a path below the location, without '..'")
        return below

    @property
    def source(self) -> Source | None:
        """Where its things come from; None where the location is a folder."""
        return next((source for source in SOURCES if source == self.base), None)

    @property
    def folder(self) -> Folder:
        """The location, where it is a folder."""
        return next(folder for folder in FOLDERS if folder == self.base)


class Category(Demand):
    """A kind of files that can be let go."""

    key: Annotated[str, Field(pattern=r"^[a-z]+(-[a-z]+)*$")]
    order: int = Field(description="Place in ledgers, smallest first")
    name: str
    description: str = Field(description="What these files are, for people")
    cost: str = Field(description="What losing them costs, in one sentence a client understands")
    why_rule: str = Field("", description="Why the default rule is as it is")
    caution: Caution
    age: AgeBasis = Field(description="What an item's age is measured from")
    shape: Shape = "files"
    admin: bool = Field(False, description="Needs administrator rights")
    made_again: bool = Field(
        False,
        description="A plain cache or temporary file that its program makes again: removed "
        "where it lies. All else is moved aside first, looked at there, and only then removed",
    )
    group: str = Field(
        "", description="Regular expression: its first group names an item's group; else the place"
    )
    least_newest: int = Field(0, description="The fewest of each group that a rule must keep")
    least_hold: timedelta = Field(timedelta(0), description="The shortest hold a rule may set")
    rule: Rule
    where: tuple[Where, ...] = Field(min_length=1)

    @field_validator("group")
    @classmethod
    def _groups_something(cls, group: str) -> str:
        if group and re.compile(group).groups != 1:
            raise ValueError(f"{group!r} must hold exactly one group in parentheses")
        return group

    @model_validator(mode="after")
    def _shape_fits_places(self) -> Category:
        for where in self.where:
            if (self.shape == "things") != (where.base in SOURCES):
                raise ValueError(f"{where.base!r} does not fit the shape {self.shape!r}")
            if self.shape == "folders" and not where.names:
                raise ValueError("a category of folders says by names which folders count")
        return self

    def on(self, system: System) -> tuple[Where, ...]:
        """The places of this category on a system."""
        return tuple(w for w in self.where if system in w.systems)

    @property
    def systems(self) -> tuple[System, ...]:
        return tuple(s for s in System if self.on(s))

    @property
    def keeps_listing(self) -> bool:
        """Whether a survey keeps every single item, for people to look through."""
        return self.caution is not Caution.SAFE

    @property
    def can_be_held(self) -> bool:
        return self.shape in ("files", "folders", "trash")

    @property
    def goes_aside(self) -> bool:
        """Whether its files are moved aside and looked at once more before they go."""
        return self.shape in ("files", "folders", "trash") and not self.made_again

    def held_for(self, rule: RuleInForce) -> timedelta:
        """How long things are held before they go for good; 0: they go at once."""
        return max(rule.hold_for, self.least_hold) if self.can_be_held else timedelta(0)

    def in_words(self, rule: RuleInForce) -> str:
        """What a rule means for this category: what goes by it, or what is only listed."""
        if self.caution is not Caution.REPORT or rule.off:
            return rule.in_words()
        words = [f"larger than {show_size(rule.only_larger)}"] if rule.only_larger else []
        words += [f"unused for {show_span(rule.keep_for)}"] if rule.keep_for else []
        return " ".join(["listed only", *([f"when {' and '.join(words)}"] if words else [])])

    def group_of(self, name: str, place: str) -> str:
        """The group an item belongs to, of which a rule may keep the newest."""
        match = re.match(self.group, name) if self.group else None
        return match[1] if match else place


def why_refused(kind: Category, rule: Rule, merged: RuleInForce) -> tuple[str, str] | None:
    """Why a scope may not say this of a category, as (field, reason), or None.

    `merged` is what would be in force by it.
    """
    fields = {field for field in Rule.model_fields if getattr(rule, field) is not None}
    if kind.caution is Caution.REPORT and (wrong := sorted(fields - _LISTED_FIELDS)):
        return wrong[0], (
            f"{kind.key} is only ever listed and never goes; a rule may set keep_for and "
            "only_larger, which say what is listed, or switch it off"
        )
    if rule.folders is not None and kind.key != "own-folders":
        return (
            "folders",
            f"{kind.key} has its places in the catalogue; only own-folders take folders",
        )
    if rule.hold_for and not kind.can_be_held:
        return "hold_for", f"{kind.key} are no plain files, which alone can be held"
    if rule.hold_for is not None and rule.hold_for < kind.least_hold:
        return "hold_for", (
            f"what goes of {kind.key} must be held at least {show_span(kind.least_hold)} first"
        )
    if rule.keep_newest is not None and rule.keep_newest < kind.least_newest:
        return "keep_newest", (
            f"at least {kind.least_newest} of each group of {kind.key} must stay; "
            f"{rule.keep_newest} is too few"
        )
    longer = [step for step in merged.pressure if step.keep_for > merged.keep_for]
    if rule.pressure and longer:
        return "pressure", (
            f"{show_span(longer[0].keep_for)} below {longer[0].below_percent} % free is longer "
            f"than the {show_span(merged.keep_for)} in force; pressure may only shorten"
        )
    return None


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
    categories = sorted((read_category(f.read_text("utf-8")) for f in files), key=lambda c: c.order)
    return {category.key: category for category in categories}


def category(key: str) -> Category:
    """One category; KeyError names the keys there are."""
    try:
        return catalogue()[key]
    except KeyError:
        raise KeyError(no_category(key)) from None


def no_category(key: str) -> str:
    """What is said of a key that no category has."""
    near = nearest(key, catalogue())
    if near:
        return f"there is no category {key!r}; did you mean {' or '.join(map(repr, near))}?"
    return f"there is no category {key!r}; there are {', '.join(catalogue())}"
