"""What a survey found: a line for each category and volume, and its items."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Amount, Demand, Moment, Value, Whole
from phylax.core.retention import ProtectEntry, Reason, RuleInForce

AGE_DAYS = 801
"""An age profile has a line for each day 0 to 800; what is older counts as 800."""
LARGEST = 20
NAMED_PLACES = 40
NAMED_UNREAD = 100
"""So many places that could not be read are named; all are counted."""


class SkippedSum(Value):
    """How much stays, or was left, for one reason."""

    reason: Reason
    count: Amount
    size: Amount


class AgeDay(Value):
    day: Whole = Field(description="Whole days of age")
    count: Whole
    size: Whole


class FileIdentity(Value):
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
    mount: str = Field("", description="Its volume; empty: not known, by an earlier agent")
    path: str = Field(description="Path below the place, with '/' between folders")
    raw: str | None = Field(None, description="The path in base64, where it is not UTF-8")
    size: Amount
    aged_from: Moment | None = Field(
        None, description="From when its age counts; absent: not known"
    )
    reason: Reason | None = Field(None, description="Why it stays; absent when it goes")
    user: str = ""
    group: str = Field("", description="Of which a rule may keep the newest; empty: its place")
    seal: FileIdentity


class FolderSum(Value):
    """What a listing holds in one folder, with all that is below it."""

    place: str
    folder: str = Field(description="Path below the place; empty for what lies in it directly")
    total: Tally
    proposed: Tally = Field(description="What the rule lets go of it")


class ListedItem(Item):
    """An item of a kept listing, with its number in it."""

    number: int


class ListingOrder(Value):
    """All items of a kept listing at once, largest first, as far as choosing them needs it.

    Columns of one length, which is a fifth of what as many objects would be.
    """

    numbers: tuple[int, ...]
    sizes: tuple[int, ...] = Field(description="Bytes of each")
    proposed: tuple[bool, ...] = Field(description="Whether the rule lets it go")
    on: tuple[int, ...] = Field((), description="Of each the place of its volume in `mounts`")
    mounts: tuple[str, ...] = Field((), description="Empty: not known, by an earlier agent")


class Ranked(Value):
    """An item that a rule may keep for being among the newest of its group."""

    group: str
    aged_from: Annotated[int, Field(ge=-(2**63), lt=2**63)] = Field(
        description="Seconds since the Unix epoch; a file may say any"
    )
    size: Whole


class Unread(Value):
    """A place that could not be looked at."""

    path: str
    why: str


class PlaceSum(Value):
    """One place of a category: whose it is, and of which program and profile."""

    place: str = Field(description="The location, as the machine writes it")
    user: str = ""
    label: str = Field("", description="What people call it, for instance a browser")
    total: Tally
    removable: Tally
    programs_open: tuple[str, ...] = Field((), description="Of the person whose place it is")


class ProtectedBy(Value):
    """What one entry of the protect list kept, where without it the rule would decide."""

    entry: ProtectEntry
    kept: Tally


class Cover(Demand):
    """What an entry of the protect list covers on a machine, as a survey found it."""

    entry: ProtectEntry
    exists: bool = Field(description="A folder: the machine has it")
    kept: Tally = Field(description="Things that were looked at and that it keeps")

    @property
    def covers(self) -> bool:
        return self.exists or self.kept.count > 0


class SurveyLine(Value):
    """One category on one volume."""

    category: str
    mount: str
    surveyed_at: Moment | None = Field(
        None, description="When, where the survey itself left the volume out: an earlier one's line"
    )
    rule: RuleInForce
    total: Tally
    removable: Tally = Field(description="What the rule lets go; for `ask`: what it proposes")
    kept: tuple[SkippedSum, ...] = ()
    ages: tuple[AgeDay, ...] = Field(
        (),
        max_length=2 * AGE_DAYS,
        description="By day of age, what a rule decides on: not what is open or protected",
    )
    ranked: tuple[Ranked, ...] = Field(
        (), description="The same one by one, where there are few; else empty"
    )
    largest: tuple[Item, ...] = ()
    capacity: Amount = Field(0, description="Bytes of the volume when it was looked at")
    free: Amount = Field(0, description="Bytes free on it then")
    young_by_attributes: Tally = Field(
        Tally(),
        description="Of what is too young: old by its contents, changed by attributes alone",
    )
    kept_sites: int = Field(0, description="Sites that the protect list keeps")
    kept_by: tuple[ProtectedBy, ...] = Field((), description="By entry of the protect list")
    people: int = Field(1, description="Who have something of it; a limit on size is each one's")
    digest: Annotated[str, Field(description="Digest of the listing, the same for the same items")]
    programs_open: tuple[str, ...] = ()
    places: tuple[PlaceSum, ...] = Field(
        (), description="Where a program has places of its own: each, those that hold most first"
    )
    unread: tuple[Unread, ...] = ()
    unread_count: int = 0


class SurveyKind(StrEnum):
    """Which look of a run a survey is."""

    FIRST = "look"
    SECOND = "second look"


class Survey(Value):
    """A look at a machine; while it runs, or when it was stopped, without an end and in part."""

    id: int
    machine_id: int
    run_id: int
    kind: SurveyKind
    started_at: Moment
    ended_at: Moment | None
    lines: tuple[SurveyLine, ...] = ()


def most_held(places: Iterable[PlaceSum]) -> tuple[PlaceSum, ...]:
    """The places that hold most, in that order."""
    return tuple(sorted(places, key=lambda place: (-place.total.size, place.place))[:NAMED_PLACES])


def add_kept(kept: Iterable[ProtectedBy]) -> tuple[ProtectedBy, ...]:
    """What each entry kept, added together."""
    sums: dict[ProtectEntry, Tally] = {}
    for line in kept:
        sums[line.entry] = sums.get(line.entry, Tally()) + line.kept
    return tuple(ProtectedBy(entry=entry, kept=tally) for entry, tally in sums.items())


def covers(
    entries: Iterable[ProtectEntry], lines: Iterable[SurveyLine], there: Collection[ProtectEntry]
) -> tuple[Cover, ...]:
    """What each entry in force covers, by a survey's lines and the folders that are `there`."""
    kept = {
        kept_by.entry: kept_by.kept
        for kept_by in add_kept(k for line in lines for k in line.kept_by)
    }
    return tuple(
        Cover(entry=entry, exists=entry in there, kept=kept.get(entry, Tally()))
        for entry in dict.fromkeys(entries)
    )


def add_stays(stays: Iterable[SkippedSum]) -> tuple[SkippedSum, ...]:
    """Stays of the same reason added together, largest first."""
    sums: dict[Reason, Tally] = {}
    for stay in stays:
        sums[stay.reason] = sums.get(stay.reason, Tally()) + Tally(count=stay.count, size=stay.size)
    summed = (SkippedSum(reason=r, count=t.count, size=t.size) for r, t in sums.items())
    return tuple(sorted(summed, key=lambda s: (-s.size, s.reason)))
