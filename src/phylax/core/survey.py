"""What a look found: a line for each category and volume, its items, and the ledger people read.

The ledger says what goes, what needs a yes, what stays and why.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import timedelta
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.catalogue import category
from phylax.core.retention import Caution, ProtectEntry, Reason, RuleInForce
from phylax.core.retention.verdicts import percent_free
from phylax.core.values import Demand, Moment, Span, Value

AGE_DAYS = 801
"""An age profile has a line for each day 0 to 800; what is older counts as 800."""
LARGEST = 20
NAMED_PLACES = 40
NAMED_UNREAD = 100
"""So many places that could not be read are named; all are counted."""


class Tally(Value):
    count: int = 0
    size: int = Field(0, description="Bytes, as they count on the volume")

    def __add__(self, other: Tally) -> Tally:
        return Tally(count=self.count + other.count, size=self.size + other.size)


class Stay(Value):
    """How much stays, or was left, for one reason."""

    reason: Reason
    count: int
    size: int


class AgeDay(Value):
    day: int = Field(description="Whole days of age")
    count: int
    size: int


class Seal(Value):
    """What identifies an item unchanged: device, file number, size, and when its contents and its
    attributes were last changed. A program can set the first of these times, never the second."""

    device: int
    file: int
    size: int
    modified_ns: int
    changed_ns: int = Field(0, description="0: not known, by an agent of an earlier version")


class Item(Value):
    """One thing that a survey found."""

    place: str = Field(description="The location it was found in, as the machine writes it")
    path: str = Field(description="Path below the place, with '/' between folders")
    raw: str | None = Field(None, description="The path in base64, where it is not UTF-8")
    size: int
    aged_from: Moment | None = Field(
        None, description="From when its age counts; absent: not known"
    )
    reason: Reason | None = Field(None, description="Why it stays; absent when it goes")
    user: str = ""
    group: str = Field("", description="Of which a rule may keep the newest; empty: its place")
    seal: Seal


class FolderSum(Value):
    """What a listing holds in one folder, with all that is below it."""

    place: str
    folder: str = Field(description="Path below the place; empty for what lies in it directly")
    holds: Tally
    proposed: Tally = Field(description="What the rule lets go of it")


class ListedItem(Item):
    """An item of a kept listing, with its number in it."""

    number: int


class Ranked(Value):
    """An item that a rule may keep for being among the newest of its group."""

    group: str
    aged_from: int = Field(description="Seconds since the Unix epoch")
    size: int


class Unread(Value):
    """A place that could not be looked at."""

    path: str
    why: str


class PlaceSum(Value):
    """One place of a category: whose it is, and of which program and profile."""

    place: str = Field(description="The location, as the machine writes it")
    user: str = ""
    label: str = Field("", description="What people call it, for instance a browser")
    holds: Tally
    goes: Tally
    programs_open: tuple[str, ...] = Field((), description="Of the person whose place it is")


class KeptBy(Value):
    """What one entry of the protect list kept, where without it the rule would decide."""

    entry: ProtectEntry
    kept: Tally


class Cover(Demand):
    """What an entry of the protect list covers on a machine, as a look found it."""

    entry: ProtectEntry
    is_there: bool = Field(description="A folder: the machine has it")
    kept: Tally = Field(description="Things that were looked at and that it keeps")

    @property
    def covers(self) -> bool:
        return self.is_there or self.kept.count > 0


class SurveyLine(Value):
    """One category on one volume."""

    category: str
    mount: str
    rule: RuleInForce
    holds: Tally
    goes: Tally = Field(description="What the rule lets go; for `ask`: what it proposes")
    stays: tuple[Stay, ...] = ()
    ages: tuple[AgeDay, ...] = Field(
        (), description="By day of age, what a rule decides on: not what is open or protected"
    )
    ranked: tuple[Ranked, ...] = Field(
        (), description="The same one by one, where there are few; else empty"
    )
    largest: tuple[Item, ...] = ()
    capacity: int = Field(0, description="Bytes of the volume when it was looked at")
    free: int = Field(0, description="Bytes free on it then")
    young_by_attributes: Tally = Field(
        Tally(),
        description="Of what is too young: old by its contents, changed by attributes alone",
    )
    kept_sites: int = Field(0, description="Sites that the protect list keeps")
    kept_by: tuple[KeptBy, ...] = Field((), description="By entry of the protect list")
    people: int = Field(1, description="Who have something of it; a limit on size is each one's")
    digest: Annotated[str, Field(description="Digest of the listing, the same for the same items")]
    programs_open: tuple[str, ...] = ()
    places: tuple[PlaceSum, ...] = Field(
        (), description="Where a program has places of its own: each, those that hold most first"
    )
    unread: tuple[Unread, ...] = ()
    unread_count: int = 0


class Look(StrEnum):
    """Which look of a run a survey is."""

    FIRST = "look"
    SECOND = "second look"


class Survey(Value):
    """A look at a machine; while it runs, or when it was stopped, without an end and in part."""

    id: int
    machine_id: int
    run_id: int
    look: Look
    started_at: Moment
    ended_at: Moment | None
    lines: tuple[SurveyLine, ...] = ()


class LedgerLine(Value):
    """One category over all volumes of a machine."""

    category: str
    name: str
    cost: str
    caution: Caution
    rule: RuleInForce
    rule_in_words: str
    holds: Tally
    goes: Tally
    needs_yes: Tally
    standing: bool = Field(
        False, description="A standing consent covers it: it goes without another yes"
    )
    stays: tuple[Stay, ...]
    largest: tuple[Item, ...]
    pressed: bool = Field(False, description="A volume is short of space; shorter spans count")
    keeps_listing: bool = False
    can_be_held: bool = False
    hold_for: Span = Field(timedelta(0), description="Held so long first; 0: gone at once")
    kept_sites: int = 0
    programs_open: tuple[str, ...] = ()
    places: tuple[PlaceSum, ...] = ()
    unread: tuple[Unread, ...] = ()
    unread_count: int = 0


class VolumeShare(Value):
    """The parts of one volume: what would go, what needs a yes."""

    mount: str
    goes: int
    needs_yes: int


class Ledger(Value):
    survey_id: int
    machine_id: int
    taken_at: Moment
    whole: bool = Field(description="False: the look still runs, or was stopped on the way")
    lines: tuple[LedgerLine, ...]
    volumes: tuple[VolumeShare, ...]
    goes: Tally
    needs_yes: Tally


def ledger(survey: Survey, standing: Collection[str] = ()) -> Ledger:
    """The survey as people read it: a line for each category, and each volume's shares; `standing`
    are the categories with a standing consent."""
    by_category: dict[str, list[SurveyLine]] = {}
    for line in survey.lines:
        by_category.setdefault(line.category, []).append(line)
    lines = sorted(
        (_ledger_line(key, found, key in standing) for key, found in by_category.items()),
        key=lambda line: category(line.category).order,
    )
    return Ledger(
        survey_id=survey.id,
        machine_id=survey.machine_id,
        taken_at=survey.ended_at or survey.started_at,
        whole=survey.ended_at is not None,
        lines=tuple(lines),
        volumes=tuple(_volume_shares(survey.lines)),
        goes=_sum(line.goes for line in lines),
        needs_yes=_sum(line.needs_yes for line in lines),
    )


def most_held(places: Iterable[PlaceSum]) -> tuple[PlaceSum, ...]:
    """The places that hold most, in that order."""
    return tuple(sorted(places, key=lambda place: (-place.holds.size, place.place))[:NAMED_PLACES])


def add_kept(kept: Iterable[KeptBy]) -> tuple[KeptBy, ...]:
    """What each entry kept, added together."""
    sums: dict[ProtectEntry, Tally] = {}
    for line in kept:
        sums[line.entry] = sums.get(line.entry, Tally()) + line.kept
    return tuple(KeptBy(entry=entry, kept=tally) for entry, tally in sums.items())


def covers(
    entries: Iterable[ProtectEntry], lines: Iterable[SurveyLine], there: Collection[ProtectEntry]
) -> tuple[Cover, ...]:
    """What each entry in force covers, by a look's lines and the folders that are `there`."""
    kept = {one.entry: one.kept for one in add_kept(k for line in lines for k in line.kept_by)}
    return tuple(
        Cover(entry=entry, is_there=entry in there, kept=kept.get(entry, Tally()))
        for entry in dict.fromkeys(entries)
    )


def _sum(tallies: Iterable[Tally]) -> Tally:
    return sum(tallies, Tally())


def add_stays(stays: Iterable[Stay]) -> tuple[Stay, ...]:
    """Stays of the same reason added together, largest first."""
    sums: dict[Reason, Tally] = {}
    for stay in stays:
        sums[stay.reason] = sums.get(stay.reason, Tally()) + Tally(count=stay.count, size=stay.size)
    found = (Stay(reason=r, count=t.count, size=t.size) for r, t in sums.items())
    return tuple(sorted(found, key=lambda s: (-s.size, s.reason)))


def _ledger_line(key: str, found: list[SurveyLine], standing: bool) -> LedgerLine:
    kind = category(key)
    proposed = _sum(line.goes for line in found)
    needs_yes = kind.caution is Caution.ASK
    return LedgerLine(
        category=key,
        name=kind.name,
        cost=kind.cost,
        caution=kind.caution,
        rule=found[0].rule,
        rule_in_words=kind.in_words(found[0].rule),
        holds=_sum(line.holds for line in found),
        goes=Tally() if needs_yes else proposed,
        needs_yes=proposed if needs_yes else Tally(),
        standing=standing and needs_yes,
        stays=add_stays(stay for line in found for stay in line.stays),
        largest=tuple(
            sorted((i for line in found for i in line.largest), key=lambda i: -i.size)[:LARGEST]
        ),
        pressed=any(
            line.rule.span_at(percent_free(line.free, line.capacity)) < line.rule.keep_for
            for line in found
        ),
        keeps_listing=kind.keeps_listing,
        can_be_held=kind.can_be_held,
        hold_for=kind.held_for(found[0].rule),
        kept_sites=sum(line.kept_sites for line in found),
        programs_open=tuple(sorted({p for line in found for p in line.programs_open})),
        places=most_held(place for line in found for place in line.places),
        unread=tuple(one for line in found for one in line.unread)[:NAMED_UNREAD],
        unread_count=sum(line.unread_count for line in found),
    )


def _volume_shares(lines: Iterable[SurveyLine]) -> Iterable[VolumeShare]:
    shares: dict[str, list[int]] = {}
    for line in lines:
        share = shares.setdefault(line.mount, [0, 0])
        share[category(line.category).caution is Caution.ASK] += line.goes.size
    for mount, (goes, asks) in shares.items():
        yield VolumeShare(mount=mount, goes=goes, needs_yes=asks)
