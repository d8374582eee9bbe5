"""Retention rules: what a scope says of a category, and which rule is in force.

A rule is set at a scope (the catalogue's own default, the shop, a client, a machine); the nearest
scope that says something wins, field by field.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta
from enum import StrEnum
from typing import Annotated

from pydantic import Field, field_validator, model_validator

from phylax.core.ground.quantities import show_size, show_span
from phylax.core.ground.values import Bytes, Demand, Moment, Span, Value

LONGEST = timedelta(days=3650)
LONGEST_HOLD = timedelta(days=90)


class Caution(StrEnum):
    """Whether a category may go unattended, needs a person's approval, or is only ever listed."""

    SAFE = "safe"
    ASK = "ask"
    REPORT = "report"


class Reason(StrEnum):
    """Why an item stays, or was left."""

    TOO_YOUNG = "too young"
    NOT_LARGER = "not large enough"
    AMONG_NEWEST = "among the newest"
    IN_USE = "in use"
    PROTECTED = "protected"
    NOT_AGREED = "not agreed"
    PROGRAM_OPEN = "program open"
    OFF = "off"
    REPORT_ONLY = "only listed"
    CHANGED = "changed since"
    GONE = "gone already"
    NO_RIGHT = "no right"
    FAILED = "could not be removed"
    NO_ROOM = "no room to hold it"
    TAKEN = "name taken again"
    READ_ONLY = "volume is read-only"
    FORBIDDEN = "refused by the machine's guard"
    FOREIGN = "somebody else's"
    DATED_AHEAD = "dated ahead"
    CLOCK = "clock not trusted"
    CALLED_OFF = "called off"
    OTHER_VOLUME = "on a volume that was not chosen"
    AWAY = "volume not connected"

    @property
    def should_have_gone(self) -> bool:
        """True where the rule wanted it gone and something on the machine stood in the way."""
        return self in _STOOD_IN_THE_WAY


_STOOD_IN_THE_WAY = frozenset(
    {
        Reason.IN_USE,
        Reason.PROGRAM_OPEN,
        Reason.CHANGED,
        Reason.NO_RIGHT,
        Reason.FAILED,
        Reason.NO_ROOM,
        Reason.TAKEN,
        Reason.AWAY,
        Reason.READ_ONLY,
        Reason.FORBIDDEN,
        Reason.CLOCK,
    }
)


class Scope(StrEnum):
    """Who says something, from the farthest to the nearest."""

    CATALOGUE = "catalogue"
    SHOP = "shop"
    CLIENT = "client"
    MACHINE = "machine"


_NEARNESS = {scope: nearness for nearness, scope in enumerate(Scope)}


class PressureStep(Demand):
    """A shorter span for a volume that is short of space."""

    below_percent: int = Field(ge=1, le=99, description="Counts while less than this is free")
    keep_for: Span = Field(examples=["P7D"])


class Rule(Demand):
    """What one scope says about one category; a field left out says nothing.

    An item goes when it is older than `keep_for`, or when the category holds more than
    `keep_under` allows and it is among the oldest. It stays, whatever else, while it is among the
    newest of its group or not larger than `only_larger`. A limit of 0 lifts the one of a farther
    scope.
    """

    off: bool | None = Field(None, description="True: nothing of this category goes")
    keep_for: Span | None = Field(
        None, description="Younger items stay; age as the catalogue measures it", examples=["P30D"]
    )
    keep_newest: int | None = Field(
        None, ge=0, le=1000, description="So many of each group stay, whatever their age"
    )
    keep_under: Bytes | None = Field(
        None, description="Bytes that may stay on a volume; the oldest go first. 0: no limit"
    )
    keep_under_percent: int | None = Field(
        None, ge=0, le=90, description="The same as a share of the volume. 0: no limit"
    )
    only_larger: Bytes | None = Field(None, description="Items of up to so many bytes stay")
    pressure: Annotated[tuple[PressureStep, ...], Field(max_length=5)] | None = Field(
        None, description="Shorter spans while the volume has little free space"
    )
    hold_for: Span | None = Field(
        None, description="Held so long before it goes for good; 0: gone at once", examples=["P7D"]
    )
    hold_yields_below: int | None = Field(
        None,
        ge=0,
        le=90,
        description="What is held goes before its time while less than this per cent of its volume "
        "is free, oldest first. 0: it keeps its time",
    )
    folders: Annotated[tuple[str, ...], Field(max_length=20)] | None = Field(
        None, description="The folders meant, for the shop's own folders", examples=[["C:\\Scans"]]
    )

    @field_validator("keep_for")
    @classmethod
    def _span_is_sensible(cls, span: timedelta | None) -> timedelta | None:
        if span is not None and not timedelta(0) <= span <= LONGEST:
            raise ValueError(
                f"keep_for is {show_span(span)}; allowed are 0 days to {LONGEST.days:,} days"
            )
        return span

    @field_validator("hold_for")
    @classmethod
    def _hold_is_sensible(cls, span: timedelta | None) -> timedelta | None:
        if span is not None and not timedelta(0) <= span <= LONGEST_HOLD:
            raise ValueError(
                f"hold_for is {show_span(span)}; allowed are 0 days to {LONGEST_HOLD.days} days"
            )
        return span

    @field_validator("folders")
    @classmethod
    def _folders_are_whole_paths(cls, folders: tuple[str, ...] | None) -> tuple[str, ...] | None:
        for folder in folders or ():
            parts = folder.replace("\\", "/").split("/")
            whole = folder.startswith("/") or folder[1:3] in (":\\", ":/")
            if not whole or ".." in parts or not any(parts[1:]) or not folder.isprintable():
                raise ValueError(
                    f"{folder!r} is not a folder's whole path; write it as on the machine, "
                    "'C:\\Scans' or '/srv/scans', not a whole volume and without '..'"
                )
        return folders

    @model_validator(mode="after")
    def _pressure_only_shortens(self) -> Rule:
        steps = self.pressure or ()
        longest = LONGEST if self.keep_for is None else self.keep_for
        for before, step in zip((None, *steps), steps, strict=False):
            if not timedelta(0) <= step.keep_for <= longest:
                raise ValueError(
                    f"pressure may only shorten: {show_span(step.keep_for)} below "
                    f"{step.below_percent} % free must lie between 0 days and {show_span(longest)}"
                )
            if before and not step.below_percent < before.below_percent:
                raise ValueError(
                    "pressure steps go from more to less free space, each share once: "
                    f"{step.below_percent} % does not come after {before.below_percent} %"
                )
            longest = step.keep_for
        return self


FIELDS = tuple(Rule.model_fields)


class RuleInForce(Value):
    """The rule that decides on a machine, and which scope each field comes from."""

    off: bool
    keep_for: Span
    keep_newest: int = 0
    keep_under: int = 0
    keep_under_percent: int = 0
    only_larger: int = 0
    pressure: tuple[PressureStep, ...] = ()
    hold_for: Span = timedelta(0)
    hold_yields_below: int = 0
    folders: tuple[str, ...] = ()
    sources: dict[str, Scope] = Field(
        default_factory=dict, description="Which scope each field comes from; else the catalogue"
    )

    def source_of(self, field: str) -> Scope:
        return self.sources.get(field, Scope.CATALOGUE)

    @property
    def source(self) -> Scope:
        """The nearest scope that has a say in how this rule decides."""
        if self.off:
            return self.source_of("off")
        saying = [f for f in FIELDS if f == "keep_for" or getattr(self, f)]
        return max((self.source_of(field) for field in saying), key=_NEARNESS.__getitem__)

    def span_at(self, free_percent: float | None) -> timedelta:
        """How long things stay on a volume with so much free; None: not known."""
        span = self.keep_for
        for step in self.pressure:
            if free_percent is not None and free_percent < step.below_percent:
                span = min(span, step.keep_for)
        return span

    def limit_on(self, capacity: int) -> int | None:
        """The bytes that may stay on a volume of that capacity; None: no limit."""
        limits = [self.keep_under] if self.keep_under else []
        if self.keep_under_percent and capacity:
            limits.append(capacity * self.keep_under_percent // 100)
        return min(limits, default=None)

    def in_words(self) -> str:
        if self.off:
            return "off"
        words = [f"keep for {show_span(self.keep_for)}"] if self.keep_for else []
        if self.keep_newest:
            words.append(
                "keep the newest" + (f" {self.keep_newest}" if self.keep_newest > 1 else "")
            )
        if self.keep_under:
            words.append(f"keep under {show_size(self.keep_under)}")
        if self.keep_under_percent:
            words.append(f"keep under {self.keep_under_percent} % of the volume")
        if not words:
            words.append("removed at any age")
        if self.only_larger:
            words.append(f"only larger than {show_size(self.only_larger)}")
        words += [
            f"{show_span(step.keep_for)} below {step.below_percent} % free"
            for step in self.pressure
            if step.keep_for < self.keep_for
        ]
        if self.hold_for:
            words.append(f"held {show_span(self.hold_for)} first")
        if self.hold_for and self.hold_yields_below:
            words.append(f"less below {self.hold_yields_below} % free")
        if self.folders:
            words.append("in " + " and ".join(self.folders))
        return ", ".join(words)


class ScopedRule(Value):
    """What one scope says about one category."""

    scope: Scope
    subject_id: int = Field(description="Number of the client or machine; 0 for the shop")
    category: str
    rule: Rule
    version: int
    changed_by: str
    changed_at: Moment


class ShopRule(Value):
    """The shop's rule for a category beside the catalogue's, and how many scopes differ."""

    category: str
    name: str
    caution: Caution
    cost: str
    catalogue: Rule
    shop: ScopedRule | None
    in_force: RuleInForce
    in_words: str
    overrides: int


def in_force(scopes: Iterable[tuple[Scope, Rule]]) -> RuleInForce:
    """Merge rules field by field; the nearer scope wins, in whatever order they come.

    The catalogue's must be among them and set both off and keep_for. A nearer span or limit is a
    wish that things go by it, and lifts a farther "off".
    """
    values: dict[str, object] = {}
    sources: dict[str, Scope] = {}
    for scope, rule in sorted(scopes, key=lambda pair: _NEARNESS[pair[0]]):
        for field in FIELDS:
            value = getattr(rule, field)
            if value is not None:
                values[field], sources[field] = value, scope
        wishes = rule.keep_for is not None or rule.keep_under or rule.keep_under_percent
        if rule.off is None and wishes and values.get("off"):
            values["off"], sources["off"] = False, scope
    if "off" not in values or "keep_for" not in values:
        raise ValueError("the catalogue's own rule must set both off and keep_for")
    return RuleInForce.model_validate({**values, "sources": sources})
