"""Tuning rules: what a scope wants of a setting or a program, and which rule is in force.

Merged as retention rules are: the nearest scope that says something wins, field by field.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated

from pydantic import Field, model_validator

from phylax.core.ground.names import Key
from phylax.core.ground.values import Demand, Moment, Scalar, Value
from phylax.core.retention import Scope
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.setting import settings

_NEARNESS = {scope: nearness for nearness, scope in enumerate(Scope)}
PUT_RIGHT_AT_MOST = 3
"""How often a round puts a value right that keeps coming back, before it is left to a person."""


class TuningRule(Demand):
    """What one scope says of one setting; a field left out says nothing."""

    leave: bool | None = Field(None, description="True: nothing of it is changed")
    value: Scalar | None = Field(None, description="The value it is to have")
    put_right: bool | None = Field(
        None, description="A round sets it again where somebody altered it after us"
    )


class ProgramRule(Demand):
    """What one scope says of one program; a field left out says nothing."""

    leave: bool | None = Field(None, description="True: asked for, it stays as it is")
    intent: Intent | None = None
    put_right: bool | None = None


class ProgramRuleEdit(Demand):
    """What a scope is to say of a program; a rule that says nothing takes it back."""

    program: Annotated[str, Field(min_length=1, max_length=500)]
    rule: ProgramRule


class InForce(Value):
    """What counts for one setting or program, and which scope each field comes from."""

    leave: bool = False
    value: Scalar | None = Field(None, description="A value, or the words of an intent")
    put_right: bool = False
    sources: dict[str, Scope] = Field(default_factory=dict)

    def source_of(self, field: str) -> Scope:
        return self.sources.get(field, Scope.CATALOGUE)


class ScopedProgramRule(Value):
    """What one scope says of one program, with who wrote it."""

    scope: Scope
    subject_id: int = Field(description="Number of the client or machine; 0 for the shop")
    program: str
    rule: ProgramRule
    version: int
    changed_by: str
    changed_at: Moment


class TuningRuleEdit(Demand):
    """What a scope is to say of a setting; a rule that says nothing takes it back."""

    setting: Key
    rule: TuningRule

    @model_validator(mode="after")
    def _wants_what_can_be(self) -> TuningRuleEdit:
        known = settings().get(self.setting)
        if known is None or not known.is_one_value:
            raise ValueError(f"{self.setting!r} is no setting of one value")
        if self.rule.value is not None and (why := known.why_not(self.rule.value)):
            raise ValueError(why)
        return self


class ScopedTuningRule(Value):
    """What one scope says of one setting, with who wrote it."""

    scope: Scope
    subject_id: int = Field(description="Number of the client or machine; 0 for the shop")
    setting: str
    rule: TuningRule
    version: int
    changed_by: str
    changed_at: Moment


def in_force(key: str, scopes: Iterable[tuple[Scope, TuningRule]]) -> InForce:
    """Merge what the scopes say of a setting; the shipped rule lies below all of them.

    KeyError where there is no such setting.
    """
    shipped = TuningRule(value=settings()[key].default)
    return _merged([(Scope.CATALOGUE, shipped), *scopes], "value")


def program_in_force(scopes: Iterable[tuple[Scope, ProgramRule]]) -> InForce:
    """Merge what the scopes say of a program."""
    return _merged(scopes, "intent")


def _merged(scopes: Iterable[tuple[Scope, TuningRule | ProgramRule]], wish: str) -> InForce:
    """The nearer scope wins, in whatever order they come; a nearer wish lifts a farther "leave"."""
    values: dict[str, object] = {}
    sources: dict[str, Scope] = {}
    for scope, rule in sorted(scopes, key=lambda pair: _NEARNESS[pair[0]]):
        for field in type(rule).model_fields:
            value = getattr(rule, field)
            if value is not None:
                name = "value" if field == wish else field
                values[name], sources[name] = value, scope
        if rule.leave is None and getattr(rule, wish) is not None and values.get("leave"):
            values["leave"], sources["leave"] = False, scope
    return InForce.model_validate({**values, "sources": sources})
