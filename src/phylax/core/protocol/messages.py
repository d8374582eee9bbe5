"""What an agent tells the service: readings, surveys, what it holds, how runs ended.

A message is taken in once; one that comes again, by its identifier, is passed over.
"""

from __future__ import annotations

from typing import Annotated, Literal, Self, cast, get_args

from pydantic import Field, model_validator
from pydantic_core import from_json

from phylax.core.actions.acted import MOST_PARTS, ActionPart
from phylax.core.checks.findings import MOST_CHECKED, Checked
from phylax.core.ground.names import Key
from phylax.core.ground.readings import ReadingIn, VolumeReadings, by_volume
from phylax.core.ground.tally import Tally
from phylax.core.ground.text import Text
from phylax.core.ground.values import Amount, Demand, Moment, Value
from phylax.core.hold.holds import BatchName, HeldItem
from phylax.core.inventory import Inventory
from phylax.core.protocol.snapshots import Snapshot
from phylax.core.survey import Cover, Item, SkippedSum, SurveyKind, SurveyLine
from phylax.core.survey.conditions import Conditions
from phylax.core.tuning.changes import MOST_WANTED, ChangeMade
from phylax.core.tuning.looks import SettingsSurvey
from phylax.core.tuning.starts import MOST_TOLD, BootCost


class LeftItem(Value):
    """Something named that was left."""

    category: str
    place: str
    path: str
    size: Amount
    reason: str
    detail: str = ""


class CategoryOutcome(Value):
    """What became of one category."""

    category: str
    removed: Tally = Field(Tally(), description="Deleted for good")
    held: Tally = Field(Tally(), description="Held, from where it can be put back")
    put_back: Tally = Tally()
    linked: Tally = Field(
        Tally(), description="Names that went while others of the same file stay: they free nothing"
    )
    left: tuple[SkippedSum, ...] = ()
    unread_count: int = 0


class Asleep(Demand):
    """A stretch in which the machine slept."""

    begin: Moment
    end: Moment


class Awake(Demand):
    """Since when an agent has been at work, and when its machine slept meanwhile."""

    at: Moment = Field(description="When this was written")
    since: Moment = Field(description="When the agent started")
    booted_at: Moment | None = Field(None, description="When the machine was started, if known")
    slept: tuple[Asleep, ...] = Field((), max_length=1000)
    clock_doubt: str = Field(
        "",
        max_length=300,
        description="Why the agent does not trust its machine's clock; until it does, nothing goes",
    )


MOST_READINGS = 10_000


class _Message(Demand):
    id: str = Field(min_length=8, max_length=120)


class ReadingsMessage(_Message):
    kind: Literal["readings"] = "readings"
    readings: tuple[ReadingIn, ...] = Field((), max_length=2000)
    volumes: tuple[VolumeReadings, ...] = Field(
        (), max_length=2000, description="The same for many times: what was read while out of reach"
    )
    awake: Awake | None = None

    @model_validator(mode="after")
    def _not_too_much(self) -> Self:
        # one message is one change of the file, and nobody else writes meanwhile
        if sum(len(series.at) for series in self.volumes) > MOST_READINGS:
            raise ValueError(f"a message has up to {MOST_READINGS} readings")
        return self

    def gathered(self) -> ReadingsMessage:
        """The same, all of it as series."""
        if not self.readings:
            return self
        volumes = (*self.volumes, *by_volume(self.readings))
        return self.model_copy(update={"readings": (), "volumes": volumes})


class ListingMessage(_Message):
    """A page of the kept listing of an `ask` category."""

    kind: Literal["listing"] = "listing"
    run_id: int
    survey_kind: SurveyKind
    category: str
    first_number: int
    items: tuple[Item, ...] = Field(max_length=2000)


class SurveyMessage(_Message):
    kind: Literal["survey"] = "survey"
    run_id: int
    survey_kind: SurveyKind
    started_at: Moment
    ended_at: Moment
    lines: tuple[SurveyLine, ...] = Field(max_length=2000)
    covers: tuple[Cover, ...] | None = Field(
        None, description="Each entry of the protect list in force; None: it was not looked for"
    )
    conditions: Conditions | None = Field(
        None, description="Under what it was looked at; None: an earlier version's agent"
    )


class SurveyPartMessage(_Message):
    """Lines of a survey that goes on; the whole survey follows."""

    kind: Literal["survey part"] = "survey part"
    run_id: int
    survey_kind: SurveyKind
    started_at: Moment
    lines: tuple[SurveyLine, ...] = Field(max_length=1000)


class HeldMessage(_Message):
    """Things that lie in the hold now: a page of a batch."""

    kind: Literal["held"] = "held"
    run_id: int
    batch: BatchName
    category: str
    mount: str
    held_at: Moment
    expires_at: Moment
    items: tuple[HeldItem, ...] = Field(max_length=2000)


class UnheldMessage(_Message):
    """Things of a batch that lie in the hold no longer."""

    kind: Literal["unheld"] = "unheld"
    batch: BatchName
    status: Literal["put back", "gone"]
    at: Moment
    numbers: tuple[tuple[int, int], ...] = Field(
        max_length=20_000, description="First and last of each stretch"
    )


class SettingsMessage(_Message):
    """What a look at the machine's settings found, asked for with a survey."""

    kind: Literal["settings"] = "settings"
    run_id: int
    look: SettingsSurvey


class ChangesMessage(_Message):
    """What was changed on the machine or put back, as an order asked for."""

    kind: Literal["changes"] = "changes"
    run_id: int
    changes: tuple[ChangeMade, ...] = Field(max_length=MOST_WANTED)


class CheckedMessage(_Message):
    """What checks came to, as an order asked for them."""

    kind: Literal["checked"] = "checked"
    run_id: int
    checked: tuple[Checked, ...] = Field(max_length=MOST_CHECKED)


class InventoryMessage(_Message):
    """A list of what the machine has or lacks."""

    kind: Literal["inventory"] = "inventory"
    run_id: int
    inventory: Inventory


class ActionMessage(_Message):
    """What an action came to."""

    kind: Literal["acted"] = "acted"
    run_id: int
    action: Key
    parts: tuple[ActionPart, ...] = Field(max_length=MOST_PARTS)
    ended: bool = Field(True, description="False: it was called off or cut off in the middle")
    started_at: Moment
    ended_at: Moment


class SnapshotMessage(_Message):
    """How the machine stands before anything changes, or after all of it."""

    kind: Literal["snapshot"] = "snapshot"
    run_id: int
    when: Literal["before", "after"]
    snapshot: Snapshot


class StartsMessage(_Message):
    """What starts of the machine cost; each is told once."""

    kind: Literal["starts"] = "starts"
    starts: tuple[BootCost, ...] = Field(max_length=MOST_TOLD)


class RestoredMessage(_Message):
    """The service's records are younger than this agent knew them: they were set back."""

    kind: Literal["set back"] = "set back"
    restore_epoch: str = Field(max_length=80)
    known_event: int = Field(ge=0, description="Number of the newest event that the agent knew of")
    newest_event: int = Field(ge=0, description="That of the newest when it noticed")


class ResultMessage(_Message):
    """How a run ended on the machine."""

    kind: Literal["result"] = "result"
    run_id: int
    started_at: Moment
    ended_at: Moment
    outcomes: tuple[CategoryOutcome, ...] = Field((), max_length=5000)
    left: tuple[LeftItem, ...] = Field((), max_length=500)
    before: tuple[ReadingIn, ...] = Field((), max_length=2000)
    after: tuple[ReadingIn, ...] = Field((), max_length=2000)
    cancelled: bool = False
    timed_out: bool = Field(False, description="It came to its `end_by` before it was through")
    passes: int = Field(0, description="How often was gone over what is cleaned")
    resumed: int = Field(0, description="How often the agent was restarted in the middle")
    changed: int = Field(0, ge=0, description="Settings changed, or put back")
    refused: int = Field(0, ge=0, description="What was ordered and not done")
    refusals: tuple[Text, ...] = Field(
        (), max_length=MOST_WANTED, description="Of that, what and why, in words"
    )
    is_action: bool = Field(
        False, description="It was an action; what became of it was told before"
    )
    uncertain: bool = Field(
        False,
        description="The machine itself stopped in the middle; the sum may lack its last second",
    )
    error: str = ""


Message = Annotated[
    ReadingsMessage
    | ListingMessage
    | SurveyPartMessage
    | SurveyMessage
    | HeldMessage
    | UnheldMessage
    | SettingsMessage
    | ChangesMessage
    | StartsMessage
    | CheckedMessage
    | InventoryMessage
    | ActionMessage
    | SnapshotMessage
    | RestoredMessage
    | ResultMessage,
    Field(discriminator="kind"),
]


_BY_KIND: dict[str, type[Value]] = {
    model.model_fields["kind"].default: model for model in get_args(get_args(Message)[0])
}


def message_in(text: bytes) -> Message:
    """The message that a text in JSON is. ValueError where it is none.

    By its kind alone, so that a program that sends few kinds never learns the others.
    """
    read = from_json(text)
    model = _BY_KIND.get(str(read.get("kind"))) if isinstance(read, dict) else None
    if model is None:
        raise ValueError("of no kind of message that this version knows")
    return cast("Message", model.model_validate_json(text))
