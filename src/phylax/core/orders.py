"""What service and agent say to each other: enrolment, orders, progress and reports.

An order is data of a fixed set of kinds. There is no kind that carries a command line or a script.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from phylax.core.holds import BatchName, BatchPick, HeldItem, IfTaken
from phylax.core.retention import ProtectEntry, RuleInForce
from phylax.core.shop import MachineFacts, ReadingIn, VolumeReadings, by_volume
from phylax.core.survey import Cover, Item, Look, Stay, SurveyLine, Tally
from phylax.core.values import Demand, Moment, Value

LEASE_SECONDS = 90


class Enrolment(Demand):
    """An agent's first call."""

    code: Annotated[str, Field(max_length=40, examples=["k7wq-m2xd-9hfe-tz4b"])]
    facts: MachineFacts


class Enrolled(Value):
    """The agent's own key; shown this once."""

    machine_id: int
    tag: str
    key: str


class CategoryRule(Value):
    category: str
    rule: RuleInForce


class AgreedListing(Value):
    """Exactly the items a person agreed to."""

    category: str
    consent_id: int
    items: tuple[Item, ...]


class SurveyOrder(Value):
    kind: Literal["survey"] = "survey"
    run_id: int
    lease: str
    look: tuple[CategoryRule, ...]
    protect: tuple[ProtectEntry, ...] = ()
    expect: Tally | None = Field(None, description="What the last look found, for time left")
    end_by: Moment | None = Field(None, description="By then it must have ended")


class CleanOrder(Value):
    kind: Literal["clean"] = "clean"
    run_id: int
    lease: str
    look: tuple[CategoryRule, ...] = Field(description="Rules in force, for looks and verdicts")
    protect: tuple[ProtectEntry, ...] = ()
    clean: tuple[str, ...]
    standing: tuple[str, ...] = Field(
        (), description="`ask` categories with a standing consent, which go by their rule"
    )
    agreed: tuple[AgreedListing, ...] = ()
    look_first: bool = Field(description="Survey before cleaning, for work nobody looked at first")
    expect: Tally | None = Field(None, description="What the last look found, for time left")
    expect_gone: Tally | None = Field(None, description="What is expected to go or be held")
    end_by: Moment | None = Field(None, description="By then it must have ended")


class HeldOrder(Value):
    """Put things back from the hold, or let them go before their time."""

    kind: Literal["put back", "let go"]
    run_id: int
    lease: str
    picks: tuple[BatchPick, ...]
    if_taken: IfTaken = IfTaken.LEAVE
    expect: Tally | None = None


Order = Annotated[SurveyOrder | CleanOrder | HeldOrder, Field(discriminator="kind")]


Step = Literal["look", "clean", "second look", "further pass", "put back", "let go"]


class Progress(Demand):
    """How far a run is; only the newest counts."""

    step: Step
    category: str = ""
    items: int = Field(0, ge=0)
    size: int = Field(0, ge=0, description="Bytes looked at or removed so far in this step")
    of_items: int | None = Field(None, ge=0, description="Items expected in this step, if known")
    of_size: int | None = Field(None, ge=0)
    items_per_second: float | None = Field(None, ge=0, description="Over the last seconds")
    seconds_left: int | None = Field(None, ge=0, description="Of this step, if it can be said")


class LeasedProgress(Demand):
    lease: str
    progress: Progress


class GoOn(Value):
    """The service's answer to progress."""

    go_on: bool = Field(description="False: the run was called off or is no longer this agent's")


class LeftItem(Value):
    """Something named that was left."""

    category: str
    place: str
    path: str
    size: int
    reason: str
    detail: str = ""


class CategoryOutcome(Value):
    """What became of one category."""

    category: str
    removed: Tally = Field(Tally(), description="Gone for good")
    held: Tally = Field(Tally(), description="Held, from where it can be put back")
    put_back: Tally = Tally()
    linked: Tally = Field(
        Tally(), description="Names that went while others of the same file stay: they free nothing"
    )
    left: tuple[Stay, ...] = ()
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


class ReadingsMessage(Demand):
    kind: Literal["readings"] = "readings"
    id: str = Field(min_length=8, max_length=80)
    readings: tuple[ReadingIn, ...] = Field((), max_length=2000)
    volumes: tuple[VolumeReadings, ...] = Field(
        (), max_length=2000, description="The same for many times: what was read while out of reach"
    )
    awake: Awake | None = None

    def gathered(self) -> ReadingsMessage:
        """The same, all of it as series."""
        if not self.readings:
            return self
        volumes = (*self.volumes, *by_volume(self.readings))
        return self.model_copy(update={"readings": (), "volumes": volumes})


class ListingMessage(Demand):
    """A page of the kept listing of an `ask` category."""

    kind: Literal["listing"] = "listing"
    id: str = Field(min_length=8, max_length=80)
    run_id: int
    look: Look
    category: str
    first_number: int
    items: tuple[Item, ...] = Field(max_length=2000)


class SurveyMessage(Demand):
    kind: Literal["survey"] = "survey"
    id: str = Field(min_length=8, max_length=80)
    run_id: int
    look: Look
    started_at: Moment
    ended_at: Moment
    lines: tuple[SurveyLine, ...]
    covers: tuple[Cover, ...] | None = Field(
        None, description="Each entry of the protect list in force; None: it was not looked for"
    )


class SurveyPartMessage(Demand):
    """Lines of a look that goes on; the whole survey follows."""

    kind: Literal["survey part"] = "survey part"
    id: str = Field(min_length=8, max_length=80)
    run_id: int
    look: Look
    started_at: Moment
    lines: tuple[SurveyLine, ...] = Field(max_length=1000)


class HeldMessage(Demand):
    """Things that lie in the hold now: a page of a batch."""

    kind: Literal["held"] = "held"
    id: str = Field(min_length=8, max_length=120)
    run_id: int
    batch: BatchName
    category: str
    mount: str
    held_at: Moment
    until_at: Moment
    items: tuple[HeldItem, ...] = Field(max_length=2000)


class UnheldMessage(Demand):
    """Things of a batch that lie in the hold no longer."""

    kind: Literal["unheld"] = "unheld"
    id: str = Field(min_length=8, max_length=120)
    batch: BatchName
    fate: Literal["put back", "gone"]
    at: Moment
    numbers: tuple[tuple[int, int], ...] = Field(description="First and last of each stretch")


class SetBackMessage(Demand):
    """The service's records are younger than this agent knew them: they were set back."""

    kind: Literal["set back"] = "set back"
    id: str = Field(min_length=8, max_length=80)
    generation: str = Field(max_length=80)
    knew: int = Field(ge=0, description="Number of the newest event that the agent knew of")
    came_to: int = Field(ge=0, description="That of the newest when it noticed")


class ResultMessage(Demand):
    """How a run ended on the machine."""

    kind: Literal["result"] = "result"
    id: str = Field(min_length=8, max_length=80)
    run_id: int
    started_at: Moment
    ended_at: Moment
    outcomes: tuple[CategoryOutcome, ...] = ()
    left: tuple[LeftItem, ...] = Field((), max_length=500)
    before: tuple[ReadingIn, ...] = ()
    after: tuple[ReadingIn, ...] = ()
    called_off: bool = False
    out_of_time: bool = Field(False, description="It came to its `end_by` before it was through")
    passes: int = Field(0, description="How often was gone over what is cleaned")
    resumed: int = Field(0, description="How often the agent was restarted in the middle")
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
    | SetBackMessage
    | ResultMessage,
    Field(discriminator="kind"),
]
