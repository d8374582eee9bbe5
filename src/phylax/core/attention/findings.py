"""What attention looks at, what it finds, and what people did about it."""

from __future__ import annotations

from enum import StrEnum

from pydantic import Field, model_validator

from phylax.core.attention.kept_young import KeptYoung
from phylax.core.checks.kept import OpenFindings
from phylax.core.clients.shop import Machine
from phylax.core.desk.open_visit import OpenVisit
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.inventory.updates import Overdue
from phylax.core.runs.runs import Run
from phylax.core.trends import Outlook
from phylax.core.tuning.changes import Change
from phylax.core.tuning.trials import Judged


class Cause(StrEnum):
    NEARLY_FULL = "nearly full"
    RUN_FAILED = "run failed"
    FILLING_FAST = "filling fast"
    CROSSES_SOON = "over its threshold soon"
    MISSED = "missed"
    SILENT = "silent"
    HOLD_FILLS = "the hold fills a volume"
    ALWAYS_LEFT = "always left"
    WAITS_FOR_YES = "needs approval"
    CLOCK_WRONG = "clock wrong"
    CLOCK_DOUBTED = "clock not trusted"
    KEPT_YOUNG = "kept young"
    LEFT = "something left"
    AGENT_OLD = "agent is old"
    CHANGE_UNDONE = "change undone"
    MADE_WORSE = "made it worse"
    ALTERED = "altered since"
    FAILING = "failing"
    CHECK_FINDINGS = "a check found something"
    MALWARE = "malware"
    UPDATES_OVERDUE = "security updates missing"
    NOT_BACK = "not back from its restart"
    VISIT_OVERDUE = "visit overdue"
    PART_LATE = "part late"
    NOT_FETCHED = "not fetched"


class NextStep(StrEnum):
    """What the person can do about it, as the interface offers it."""

    LOOK = "look"
    CLEAN = "clean"
    DECIDE = "decide"
    RUN_AGAIN = "run again"
    ASK_CLIENT = "ask the client"
    SEE_TREND = "see the trend"
    SEE_HOLD = "see what is held"
    SEE_PROGRAMS = "see startup programs"
    SEE_CHECKS = "see the checks"
    SEE_UPDATES = "see the updates"
    SEE_VISIT = "see the visit"


class OftenLeft(Value):
    """What one cleaning after the other left, though it should have gone: five times or more."""

    items: int
    size: int
    since: Moment
    times: int
    path: str = Field(description="One of them")
    reason: str


class HeldOn(Value):
    """What the hold keeps on one volume."""

    mount: str
    size: int
    since: Moment
    until: Moment


class MadeWorse(Value):
    """What a run changed, which made starts dearer and is in force."""

    run_id: int
    programs: tuple[str, ...]
    judged: Judged
    since: Moment


class MachineCondition(Value):
    """All that attention looks at for one machine, at one moment."""

    machine: Machine
    now: Moment
    threshold_percent: int
    last_run: Run | None = None
    missed_in_a_row: int = 0
    removable: Tally | None = None
    needs_approval: Tally | None = None
    surveyed_at: Moment | None = None
    left_often: OftenLeft | None = None
    kept_young: tuple[KeptYoung, ...] = ()
    outlooks: tuple[Outlook, ...] = ()
    held: tuple[HeldOn, ...] = ()
    undone: tuple[Change, ...] = Field((), description="Changes that undid themselves lately")
    altered: tuple[Change, ...] = Field((), description="Changes that somebody altered since")
    made_worse: tuple[MadeWorse, ...] = ()
    programs_wait: int = Field(0, description="Programs that a round has left to a person")
    overdue: Overdue | None = Field(None, description="A security update missing for too long")
    gone_since: Moment | None = Field(
        None, description="Since when it has not come back from a restart that was asked for"
    )
    gone_run_id: int | None = None
    findings: tuple[OpenFindings, ...] = Field((), description="Of checks, and not settled")
    open_visit: OpenVisit | None = Field(None, description="Its open visit")
    awake_since: Moment | None = Field(
        None, description="Since when the service itself hears without a longer break"
    )
    newest_agent: str = Field("", description="The agent's version that comes with this service")


class Finding(Value):
    """Something that needs a person, on one machine."""

    cause: Cause
    subject: str = Field("", description="Which one of its kind: a volume")
    urgency: int = Field(description="0 to 100; from 70 on it is told at once")
    grade: int = Field(0, description="How bad it is; only to be compared with its own kind")
    machine_id: int
    machine_tag: str
    client_id: int
    client_name: str
    since: Moment | None
    reason: str
    evidence: str
    next_step: NextStep
    volume_mount: str | None = None
    run_id: int | None = None


def finding(standing: MachineCondition, **what: object) -> Finding:
    """Something found on a standing's machine."""
    machine = standing.machine
    return Finding.model_validate(
        {
            "machine_id": machine.id,
            "machine_tag": machine.tag,
            "client_id": machine.client_id,
            "client_name": machine.client_name,
            **what,
        }
    )


class Handling(StrEnum):
    OPEN = "open"
    TAKEN = "taken on"
    PUT_OFF = "put off"
    SETTLED = "settled"


class Attention(Finding):
    """Something that needs a person, with what was done about it."""

    id: int
    since: Moment
    handling: Handling = Handling.OPEN
    taken_by: str = ""
    snoozed_until: Moment | None = None
    handled_by: str = Field("", description="Who put it off or settled it")
    comment: str = ""
    comes_and_goes: bool = Field(False, description="It went and came back again and again")
    group: str = Field(
        "", description="The same for what belongs together: a machine, or many of one client"
    )
    version: int = 1

    @property
    def needs_somebody(self) -> bool:
        return self.handling in (Handling.OPEN, Handling.TAKEN)


class AttentionEdit(Demand):
    """What a person does about something that needs one."""

    handling: Handling = Field(
        description="Taken on: by who asks; open: given back, or not settled after all"
    )
    snooze_until: Moment | None = Field(None, description="Put off until then")
    comment: str = Field("", max_length=400, description="Why it is settled, for the record")

    @model_validator(mode="after")
    def _says_what_it_must(self) -> AttentionEdit:
        if (self.handling is Handling.PUT_OFF) != (self.snooze_until is not None):
            raise ValueError("`until` goes with 'put off', and is needed for it")
        if self.handling is Handling.SETTLED and not self.comment.strip():
            raise ValueError("say in a word how it was settled; it goes into the record")
        return self
