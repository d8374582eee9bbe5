"""What a look found: sums, age profile, largest items, and a digest of the listing.

`LineCount` adds up one category on one volume while the agent walks; it keeps no list, so memory
stays flat whatever the number of files. `Ledger` is what people read: what goes, what needs a yes,
what stays and why.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable
from enum import StrEnum
from hashlib import blake2b
from typing import Annotated, NamedTuple

from pydantic import Field

from phylax.core.catalogue import category
from phylax.core.retention import Caution, Reason, RuleInForce
from phylax.core.values import Moment, Value, from_seconds

AGE_DAYS = 801
"""An age profile has a line for each day 0 to 800; what is older counts as 800."""
LARGEST = 20
_DIGEST_BYTES = 16


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
    """What identifies an item unchanged: device, file number, size and time of change."""

    device: int
    file: int
    size: int
    modified_ns: int


class Item(Value):
    """One thing that a survey found."""

    place: str = Field(description="The location it was found in, as the machine writes it")
    path: str = Field(description="Path below the place, with '/' between folders")
    raw: str | None = Field(None, description="The path in base64, where it is not UTF-8")
    size: int
    aged_from: Moment
    reason: Reason | None = Field(None, description="Why it stays; absent when it goes")
    user: str = ""
    seal: Seal


class ListedItem(Item):
    """An item of a kept listing, with its number in it."""

    number: int


class Unread(Value):
    """A place that could not be looked at."""

    path: str
    why: str


class SurveyLine(Value):
    """One category on one volume."""

    category: str
    mount: str
    rule: RuleInForce
    holds: Tally
    goes: Tally = Field(description="What the rule lets go; for `ask`: what it proposes")
    stays: tuple[Stay, ...] = ()
    ages: tuple[AgeDay, ...] = ()
    largest: tuple[Item, ...] = ()
    digest: Annotated[str, Field(description="Digest of the listing, the same for the same items")]
    programs_open: tuple[str, ...] = ()
    unread: tuple[Unread, ...] = ()
    unread_count: int = 0


class Look(StrEnum):
    """Which look of a run a survey is."""

    FIRST = "look"
    SECOND = "second look"


class Survey(Value):
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
    stays: tuple[Stay, ...]
    largest: tuple[Item, ...]
    programs_open: tuple[str, ...] = ()
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
    lines: tuple[LedgerLine, ...]
    volumes: tuple[VolumeShare, ...]
    goes: Tally
    needs_yes: Tally


class Found(NamedTuple):
    """One file as the walk sees it; integers only, for there may be a million."""

    path: str
    size: int
    aged_from: int
    device: int
    file: int
    apparent: int
    modified_ns: int
    user: str
    reason: Reason | None


class LineCount:
    """Adds up one category on one volume.

    `add` is called for each item, `end_folder` when a folder is through. The digest is a sum of one
    hash per folder (names sorted), so that it does not depend on the order of the walk.
    """

    def __init__(self, now: int, place: str = "") -> None:
        self._now = now
        self._place = place
        self._count = [0] * AGE_DAYS
        self._size = [0] * AGE_DAYS
        self._goes_count = 0
        self._goes_size = 0
        self._stays: dict[Reason, list[int]] = {}
        self._largest: list[tuple[int, int, str, Found]] = []
        self._floor = 0
        self._seen = 0
        self._keys: list[str] = []
        self._digest = 0
        self.unread: list[Unread] = []
        self.unread_count = 0
        self.programs_open: set[str] = set()

    @property
    def count(self) -> int:
        return self._seen

    @property
    def size(self) -> int:
        return sum(self._size)

    def enter(self, place: str) -> None:
        """The next items lie in this place."""
        self._place = place

    def add(self, found: Found) -> None:
        path, size, aged_from, _, file, _, modified_ns, _, reason = found
        self._seen += 1
        day = (self._now - aged_from) // 86400
        if day < 0:
            day = 0
        elif day >= AGE_DAYS:
            day = AGE_DAYS - 1
        self._count[day] += 1
        self._size[day] += size
        if reason is None:
            self._goes_count += 1
            self._goes_size += size
        elif reason in self._stays:
            stay = self._stays[reason]
            stay[0] += 1
            stay[1] += size
        else:
            self._stays[reason] = [1, size]
        if size > self._floor:
            entry = (size, self._seen, self._place, found)
            if len(self._largest) < LARGEST:
                heapq.heappush(self._largest, entry)
            else:
                heapq.heapreplace(self._largest, entry)
                self._floor = self._largest[0][0]
        self._keys.append(f"{path}\0{size}\0{modified_ns}\0{file}")

    def end_folder(self) -> None:
        """Close a folder of the listing; its items enter the digest together."""
        if not self._keys:
            return
        self._keys.sort()
        text = "\n".join([self._place, *self._keys]).encode("utf-8", "surrogateescape")
        self._digest += int.from_bytes(blake2b(text, digest_size=_DIGEST_BYTES).digest(), "big")
        self._keys.clear()

    def could_not_read(self, path: str, why: str) -> None:
        """Note a place that could not be looked at; the first 100 are named."""
        self.unread_count += 1
        if len(self.unread) < 100:
            self.unread.append(Unread(path=path, why=why))

    def line(self, category_key: str, mount: str, rule: RuleInForce) -> SurveyLine:
        """What was added up, as the survey's line."""
        self.end_folder()
        return SurveyLine(
            category=category_key,
            mount=mount,
            rule=rule,
            holds=Tally(count=self._seen, size=self.size),
            goes=Tally(count=self._goes_count, size=self._goes_size),
            stays=tuple(
                Stay(reason=reason, count=c, size=s) for reason, (c, s) in self._stays.items()
            ),
            ages=tuple(
                AgeDay(day=day, count=c, size=self._size[day])
                for day, c in enumerate(self._count)
                if c
            ),
            largest=tuple(
                as_item(found, place)
                for _, _, place, found in sorted(self._largest, key=lambda e: (-e[0], e[1]))
            ),
            digest=(self._digest % (1 << 8 * _DIGEST_BYTES)).to_bytes(_DIGEST_BYTES, "big").hex(),
            programs_open=tuple(sorted(self.programs_open)),
            unread=tuple(self.unread),
            unread_count=self.unread_count,
        )


def as_item(found: Found, place: str) -> Item:
    """A found file as the item that travels."""
    shown, raw = spell(found.path)
    return Item(
        place=place,
        path=shown,
        raw=raw,
        size=found.size,
        aged_from=from_seconds(found.aged_from),
        reason=found.reason,
        user=found.user,
        seal=Seal(
            device=found.device,
            file=found.file,
            size=found.apparent,
            modified_ns=found.modified_ns,
        ),
    )


def spell(path: str) -> tuple[str, str | None]:
    """A path as people may read it, and in base64 besides where its bytes are not UTF-8.

    Control characters are shown as their escapes, so that a name cannot forge a line of a listing.
    """
    from base64 import b64encode

    try:
        raw = path.encode("utf-8")
        plain = True
    except UnicodeEncodeError:
        raw = path.encode("utf-8", "surrogateescape")
        plain = False
    shown = raw.decode("utf-8", "backslashreplace")
    if not shown.isprintable():
        shown = "".join(c if c.isprintable() else repr(c)[1:-1] for c in shown)
        plain = False
    return shown, None if plain else b64encode(raw).decode("ascii")


def unspell(item: Item) -> str:
    """The path of an item as the machine's own interfaces take it."""
    from base64 import b64decode

    if item.raw is None:
        return item.path
    return b64decode(item.raw).decode("utf-8", "surrogateescape")


def ledger(survey: Survey) -> Ledger:
    """The survey as people read it: a line for each category, and each volume's shares."""
    by_category: dict[str, list[SurveyLine]] = {}
    for line in survey.lines:
        by_category.setdefault(line.category, []).append(line)
    lines = sorted(
        (_ledger_line(key, found) for key, found in by_category.items()),
        key=lambda line: category(line.category).order,
    )
    return Ledger(
        survey_id=survey.id,
        machine_id=survey.machine_id,
        taken_at=survey.ended_at or survey.started_at,
        lines=tuple(lines),
        volumes=tuple(_volume_shares(survey.lines)),
        goes=_sum(line.goes for line in lines),
        needs_yes=_sum(line.needs_yes for line in lines),
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


def _ledger_line(key: str, found: list[SurveyLine]) -> LedgerLine:
    kind = category(key)
    proposed = _sum(line.goes for line in found)
    needs_yes = kind.caution is Caution.ASK
    return LedgerLine(
        category=key,
        name=kind.name,
        cost=kind.cost,
        caution=kind.caution,
        rule=found[0].rule,
        rule_in_words=found[0].rule.in_words(),
        holds=_sum(line.holds for line in found),
        goes=Tally() if needs_yes else proposed,
        needs_yes=proposed if needs_yes else Tally(),
        stays=add_stays(stay for line in found for stay in line.stays),
        largest=tuple(
            sorted((i for line in found for i in line.largest), key=lambda i: -i.size)[:LARGEST]
        ),
        programs_open=tuple(sorted({p for line in found for p in line.programs_open})),
        unread_count=sum(line.unread_count for line in found),
    )


def _volume_shares(lines: Iterable[SurveyLine]) -> Iterable[VolumeShare]:
    shares: dict[str, list[int]] = {}
    for line in lines:
        share = shares.setdefault(line.mount, [0, 0])
        share[category(line.category).caution is Caution.ASK] += line.goes.size
    for mount, (goes, asks) in shares.items():
        yield VolumeShare(mount=mount, goes=goes, needs_yes=asks)
