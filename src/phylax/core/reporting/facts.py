"""What a report stands on, as it is gathered from the record."""

from __future__ import annotations

from datetime import date
from typing import NamedTuple

from phylax.core.checks.findings import Severity
from phylax.core.desk.advice import GivenAdvice
from phylax.core.desk.visits import Outcome
from phylax.core.ground.tally import Tally
from phylax.core.retention.rules import Reason


class ReportedVisit(NamedTuple):
    number: int
    opened: date
    closed: date | None
    outcome: Outcome | None
    said: str
    guaranteed_until: date | None


class Cleaned(NamedTuple):
    """A cleaning."""

    day: date
    freed: int
    """Bytes more free on the volumes afterwards; below nothing where others wrote meanwhile."""
    gone: Tally


class PutBack(NamedTuple):
    day: date
    files: int


class Changed(NamedTuple):
    """A setting that was changed, or one that was set back again."""

    day: date
    name: str
    before: str
    after: str
    why: str
    is_set_back: bool


class CheckedThings(NamedTuple):
    day: date
    names: tuple[str, ...]
    findings: int
    could_look: bool


class ByHand(NamedTuple):
    day: date
    title: str
    word: str


class Remark(NamedTuple):
    """What a technician wrote, chosen for the report."""

    day: date
    text: str


ReportedAction = Cleaned | PutBack | Changed | CheckedThings | ByHand | Remark


class VolumeThen(NamedTuple):
    """A volume over the span."""

    name: str
    capacity: int
    before: int
    after: int
    points: tuple[tuple[date, float], ...]
    """Days with the share that was free."""


class LetGo(NamedTuple):
    category: str
    gone: Tally


class ReportedFinding(NamedTuple):
    what: str
    where: str
    severity: Severity
    is_settled: bool


class MachineFacts(NamedTuple):
    """All that a report says of one machine."""

    tag: str
    make_and_model: str
    visits: tuple[ReportedVisit, ...] = ()
    actions: tuple[ReportedAction, ...] = ()
    volumes: tuple[VolumeThen, ...] = ()
    starts: tuple[float, float] | None = None
    """Seconds of the processor that a start took before and after."""
    let_go: tuple[LetGo, ...] = ()
    held: Tally = Tally()
    held_until: date | None = None
    left: tuple[tuple[Reason, Tally], ...] = ()
    findings: tuple[ReportedFinding, ...] = ()
    advice: tuple[GivenAdvice, ...] = ()
    next: tuple[tuple[date, str], ...] = ()


class Facts(NamedTuple):
    """All that a report says."""

    client: str
    machines: tuple[MachineFacts, ...]
    first: date
    last: date
    day: date
    visit: int | None = None
    is_of_client: bool = False
    more: int = 0
    """So many machines of the client are not gone into."""
    cover: str = ""
