"""Retention rules and the one function that decides by them.

A rule says what of a category stays. It is set at a scope (the catalogue's own default, the shop, a
client, a machine) and the nearest scope that says something wins, field by field. Survey, cleanup
and what-if all decide with `Judge`.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from enum import StrEnum

from pydantic import Field, model_validator

from phylax.core.quantities import show_span
from phylax.core.values import Demand, Moment, Span, Value


class Caution(StrEnum):
    """Whether a category may go unattended, needs a person's yes, or is only ever listed."""

    SAFE = "safe"
    ASK = "ask"
    REPORT = "report"


class Reason(StrEnum):
    """Why an item stays, or was left."""

    TOO_YOUNG = "too young"
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
    CALLED_OFF = "called off"

    @property
    def should_have_gone(self) -> bool:
        """True where the rule wanted it gone and something on the machine stood in the way."""
        return self in _STOOD_IN_THE_WAY


_STOOD_IN_THE_WAY = frozenset(
    {Reason.IN_USE, Reason.PROGRAM_OPEN, Reason.CHANGED, Reason.NO_RIGHT, Reason.FAILED}
)


class Scope(StrEnum):
    CATALOGUE = "catalogue"
    SHOP = "shop"
    CLIENT = "client"
    MACHINE = "machine"


class Rule(Demand):
    """What one scope says about one category; a field left out says nothing."""

    off: bool | None = Field(None, description="True: nothing of this category goes")
    keep_for: Span | None = Field(
        None, description="Younger items stay; age as the catalogue measures it", examples=["P30D"]
    )

    @model_validator(mode="after")
    def _span_is_sensible(self) -> Rule:
        if self.keep_for is not None and not timedelta(0) <= self.keep_for <= timedelta(days=3650):
            raise ValueError(
                f"keep_for is {show_span(self.keep_for)}; allowed are 0 days to 3,650 days"
            )
        return self


class RuleInForce(Value):
    """The rule that decides on a machine, and which scope each field comes from."""

    off: bool
    keep_for: Span
    off_from: Scope
    keep_for_from: Scope

    @property
    def source(self) -> Scope:
        """The scope that matters most: of the field that decides."""
        return self.off_from if self.off else self.keep_for_from

    def in_words(self) -> str:
        if self.off:
            return "off"
        if not self.keep_for:
            return "goes whatever its age"
        return f"keep for {show_span(self.keep_for)}"


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
    catalogue: Rule
    shop: ScopedRule | None
    in_force: RuleInForce
    in_words: str
    overrides: int


def in_force(scopes: Iterable[tuple[Scope, Rule]]) -> RuleInForce:
    """Merge rules field by field; later pairs are nearer to the machine and win.

    The first pair must be the catalogue's, which leaves no field open.
    """
    off: tuple[bool, Scope] | None = None
    keep_for: tuple[timedelta, Scope] | None = None
    for scope, rule in scopes:
        if rule.off is not None:
            off = (rule.off, scope)
        if rule.keep_for is not None:
            keep_for = (rule.keep_for, scope)
            # a nearer span is a wish that things go by it; it lifts a farther "off"
            if rule.off is None and off is not None and off[0]:
                off = (False, scope)
    if off is None or keep_for is None:
        raise ValueError("the catalogue's own rule must set both off and keep_for")
    return RuleInForce(off=off[0], keep_for=keep_for[0], off_from=off[1], keep_for_from=keep_for[1])


class Judge:
    """Decides for the items of one category, under one rule, at one moment.

    Called once for every file of a machine, so it compares integers and allocates nothing.
    """

    __slots__ = ("_cutoff", "_standing")

    def __init__(self, rule: RuleInForce, caution: Caution, now: datetime) -> None:
        self._cutoff = int((now - rule.keep_for).timestamp())
        self._standing: Reason | None = None
        if rule.off:
            self._standing = Reason.OFF
        elif caution is Caution.REPORT:
            self._standing = Reason.REPORT_ONLY

    @property
    def cutoff(self) -> int:
        """Epoch seconds; what was last touched later is too young."""
        return self._cutoff

    def standing(self, *, program_open: bool) -> Reason | None:
        """The reason for which everything stays, whatever its age."""
        if self._standing is None and program_open:
            return Reason.PROGRAM_OPEN
        return self._standing

    def why_stays(
        self, aged_from: int, *, in_use: bool = False, program_open: bool = False
    ) -> Reason | None:
        """The reason an item stays, or None: it goes (for `ask`: is proposed).

        `aged_from` is the epoch second from which the category measures age.
        """
        if (standing := self.standing(program_open=program_open)) is not None:
            return standing
        if aged_from > self._cutoff:
            return Reason.TOO_YOUNG
        if in_use:
            return Reason.IN_USE
        return None
