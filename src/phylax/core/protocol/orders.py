"""Orders: what the service gives an agent to do.

An order is data of a fixed set of kinds. There is no kind that carries a command line or a script.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from phylax.core.actions import Action
from phylax.core.checks.time_left import Ran
from phylax.core.ground.names import Key
from phylax.core.ground.tally import Tally
from phylax.core.ground.text import Text
from phylax.core.ground.values import Moment, Value
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.hold.holds import BatchPick, IfTaken
from phylax.core.retention import ProtectEntry, RuleInForce
from phylax.core.survey import Item
from phylax.core.survey.conditions import Conditions
from phylax.core.tuning.changes import MOST_WANTED, ChangeId, Wanted, WantedValue

LEASE_SECONDS = 90


class CategoryRule(Value):
    category: str
    rule: RuleInForce


class AgreedListing(Value):
    """Exactly the items a person agreed to."""

    category: str
    consent_id: int
    items: tuple[Item, ...]


class _Order(Value):
    run_id: int
    lease: str
    expected: Tally | None = Field(None, description="What the last survey found, for time left")


class _SurveyingOrder(_Order):
    rules: tuple[CategoryRule, ...] = Field(description="Rules in force, for looks and verdicts")
    protect: tuple[ProtectEntry, ...] = ()
    volumes: VolumeChoice = ALL_VOLUMES
    end_by: Moment | None = Field(None, description="By then it must have ended")


class SurveyOrder(_SurveyingOrder):
    kind: Literal["survey"] = "survey"
    settings: bool = Field(False, description="Look at startup programs, too")
    snapshot: bool = Field(False, description="Note how the machine stands before anything changes")


class CleanOrder(_SurveyingOrder):
    """A cleaning. One of chosen volumes has a kind of its own: an agent of an earlier version would
    pass over what it does not know in an order, and clean them all."""

    kind: Literal["clean", "clean chosen volumes"] = "clean"
    clean: tuple[str, ...]
    standing: tuple[str, ...] = Field(
        (), description="`ask` categories with a standing consent, which go by their rule"
    )
    agreed: tuple[AgreedListing, ...] = ()
    survey_first: bool = Field(
        description="Survey before cleaning, for work nobody looked at first"
    )
    snapshot: bool = Field(False, description="Note how the machine stands before anything changes")
    expected_removed: Tally | None = Field(None, description="What is expected to go or be held")
    settings: bool = Field(False, description="Look at startup programs afterwards")
    shown_under: Conditions | None = Field(
        None, description="Of the survey whose figures somebody agreed to; else nothing is done"
    )

    @model_validator(mode="before")
    @classmethod
    def _kind_by_volumes(cls, fields: Any) -> Any:
        if isinstance(fields, dict) and "kind" not in fields:
            every = VolumeChoice.model_validate(fields.get("volumes", ALL_VOLUMES)).is_all
            return fields | {"kind": "clean" if every else "clean chosen volumes"}
        return fields

    @model_validator(mode="after")
    def _as_its_kind_says(self) -> CleanOrder:
        if (self.kind == "clean") != self.volumes.is_all:
            raise ValueError("'clean' is for all volumes, 'clean chosen volumes' names them")
        return self


class HeldOrder(_Order):
    """Put things back from the hold, or let them go before their time."""

    kind: Literal["put back", "let go"]
    picks: tuple[BatchPick, ...]
    if_taken: IfTaken = IfTaken.LEAVE


class ReadSettingsOrder(_Order):
    """Read startup programs and what settings are; touch nothing."""

    kind: Literal["look at settings"] = "look at settings"


class CheckOrder(_Order):
    """Check the machine: kinds of the agent's own catalogue, one after the other."""

    kind: Literal["check"] = "check"
    checks: tuple[Key, ...] = Field(min_length=1, max_length=50)
    modes: dict[Key, Key] = Field({}, description="How, by check, where not the usual way")
    earlier: dict[Key, tuple[Ran, ...]] = Field(
        {}, description="How long it took before, for the time left"
    )
    end_by: Moment | None = Field(None, description="By then it must have ended")
    snapshot: bool = Field(False, description="Note how the machine stands before anything changes")


class ActOrder(_Order):
    """Do one thing of the fixed set of actions."""

    kind: Literal["act"] = "act"
    action: Action
    earlier: tuple[Ran, ...] = Field((), description="How long it took before, for the time left")
    end_by: Moment | None = Field(None, description="By then it must have ended")
    protect_findings: Text = Field("", description="Findings that stand in its way; empty: none")


class CompareOrder(_Order):
    """Look at the same things as before the visit began."""

    kind: Literal["compare"] = "compare"


class ChangeSettingsOrder(_Order):
    """Let programs run otherwise. Keys and intents: what that means is the machine's to know."""

    kind: Literal["change settings"] = "change settings"
    wanted: tuple[Wanted, ...] = Field((), max_length=MOST_WANTED)
    values: tuple[WantedValue, ...] = Field((), max_length=MOST_WANTED)
    protect: tuple[ProtectEntry, ...] = Field(
        (), description="What is protected: sites whose sign-ins are kept"
    )


class PutSettingsBackOrder(_Order):
    """Make everything what it was before some changes, newest first."""

    kind: Literal["put settings back"] = "put settings back"
    changes: tuple[ChangeId, ...] = Field(max_length=MOST_WANTED)


Order = Annotated[
    SurveyOrder
    | CleanOrder
    | HeldOrder
    | ReadSettingsOrder
    | ChangeSettingsOrder
    | PutSettingsBackOrder
    | CheckOrder
    | ActOrder
    | CompareOrder,
    Field(discriminator="kind"),
]
