"""Adding up a survey while the agent walks: sums, age profile, largest items, digest.

`LineCount` keeps no list of what it counts, so memory stays flat whatever the number of files.
"""

from __future__ import annotations

import heapq
from array import array
from collections.abc import Callable, Iterable, Sequence, Set
from datetime import datetime
from hashlib import blake2b
from typing import NamedTuple

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds, within
from phylax.core.retention import DATED_AHEAD, Judge, ProtectEntry, Reason, RuleInForce
from phylax.core.survey.file_stat import FileStat
from phylax.core.survey.lines import (
    AGE_DAYS,
    LARGEST,
    NAMED_UNREAD,
    AgeDay,
    FileIdentity,
    Item,
    PlaceSum,
    ProtectedBy,
    Ranked,
    SkippedSum,
    SurveyLine,
    Unread,
    most_held,
)
from phylax.core.survey.spelling import Lookalikes, spell

DIGEST_BYTES = 16
MOST_RANKED = 500
_FIRST_SECOND, _LAST_SECOND = -62_135_596_800, 253_402_300_799
_NUMBER = 2**63
NOT_KNOWN = 0
"""An age that cannot be known: counted as the oldest, shown as not known."""


class SurveyedItem(NamedTuple):
    """One item as the walk sees it; plain numbers, for there may be a million."""

    path: str
    size: int
    aged_from: int
    device: int
    file: int
    apparent: int
    modified_ns: int
    user: str
    reason: Reason | None
    group: str = ""
    changed_ns: int = 0
    kept_by: ProtectEntry | None = None


class Ageing(NamedTuple):
    """How the files of a category are measured."""

    in_blocks: bool = False
    """A file counts as the blocks it holds, instead of as its length."""
    used: bool = False
    """Age is measured from the last use."""
    attributes: bool = False
    """A change of attributes makes a file young as well, and it is no older than its folder."""
    behind: Callable[[int], int] | None = None
    """From when a time counts at which the clock was wrong."""


class PlaceTerms(NamedTuple):
    """What is the same for all files of a place."""

    judge: Judge
    ageing: Ageing = Ageing()
    open_files: Set[tuple[int, int]] = frozenset()
    """(device, file number) of each."""
    open_numbers: Set[int] = frozenset()
    """The file numbers alone."""
    program_open: bool = False
    user: str = ""
    owners: range | None = None
    """Whose files may go; None: everyone's."""


class LineCount:
    """Adds up one category on one volume.

    `add_folder` counts the files of a folder at once, `add` a single item. The digest is a sum of
    hashes, so that it does not depend on the order in which folders are walked.
    """

    def __init__(self, now: int, larger: int = -1) -> None:
        """`now` is the epoch second from which ages are counted; what is not `larger` in bytes is
        none that an age decides on."""
        self._now = now
        self._larger = larger
        self._holds = [0, 0]
        self._place = ""
        self._entered: PlaceSum | None = None
        self._before: tuple[int, ...] = (0, 0, 0, 0)
        self._places: list[PlaceSum] = []
        self._counts = [0] * AGE_DAYS
        self._sizes = [0] * AGE_DAYS
        self._goes = [0, 0]
        self._stays: dict[Reason, list[int]] = {}
        self._largest: list[tuple[int, int, str, SurveyedItem]] = []
        self._kept = 0
        self._floor = -1
        self._linked: set[tuple[int, int]] = set()
        self._digest = 0
        self._ranked: list[Ranked] = []
        self._ranks_all = True
        self._young_by_attributes = [0, 0]
        self._kept_by: dict[ProtectEntry, list[int]] = {}
        self.kept_sites = 0
        self.unread: list[Unread] = []
        self.unread_count = 0
        self.programs_open: set[str] = set()

    def enter(
        self, place: str, user: str = "", label: str = "", programs_open: Iterable[str] = ()
    ) -> None:
        """The next items lie in this place. One with a `label` is told apart in the line."""
        self._leave()
        self._place = place
        if label:
            self._entered = PlaceSum(
                place=place,
                user=user,
                label=label,
                total=Tally(),
                removable=Tally(),
                programs_open=tuple(sorted(programs_open)),
            )
        self._before = (*self._holds, *self._goes)

    def _leave(self) -> None:
        """What was added up since a place was entered is what it holds."""
        if self._entered is not None:
            now = (*self._holds, *self._goes)
            held, size, goes, goes_size = (b - a for a, b in zip(self._before, now, strict=True))
            sums = {
                "total": Tally(count=held, size=size),
                "removable": Tally(count=goes, size=goes_size),
            }
            self._places.append(self._entered.model_copy(update=sums))
        self._entered = None

    def add(self, item: SurveyedItem, *, blocked: bool = False) -> None:
        """Count one item. `blocked`: in use, protected or behind an open program, so that no rule
        decides on it."""
        self._holds[0] += 1
        self._holds[1] += item.size
        if not blocked and item.size > self._larger:
            day = min(max((self._now - item.aged_from) // 86400, 0), AGE_DAYS - 1)
            self._counts[day] += 1
            self._sizes[day] += item.size
            self._rank(item)
        if item.reason is None:
            self._goes[0] += 1
            self._goes[1] += item.size
        else:
            self._stay(item.reason, 1, item.size)
        if item.kept_by is not None:
            self._is_kept_by(item.kept_by, item.size)
        if item.size > self._floor:
            self._keep(item)
        numbers = _packed((item.size, item.file, item.modified_ns))
        self._hash(numbers, [self._place, item.path])

    def _rank(self, item: SurveyedItem) -> None:
        """Remember an item one by one, as long as there are few."""
        if len(self._ranked) == MOST_RANKED:
            self._ranks_all = False
            self._ranked.clear()
        if self._ranks_all:
            group = item.group or self._place
            self._ranked.append(
                Ranked(group=group, aged_from=item.aged_from, size=within(item.size))
            )

    def add_folder(
        self,
        prefix: str,
        files: Iterable[tuple[str, FileStat]],
        terms: PlaceTerms,
        arrived: int = 0,
        keeps: Callable[[str], ProtectEntry | None] | None = None,
    ) -> int:
        """Count the files of one folder; the bytes they hold.

        The same as judging and adding each, but written for a million: no call and no object for
        each. `arrived` is since when the folder surely lies there; `keeps` says which entry of the
        protect list keeps a name. A file with several names (hard links) is counted once.
        """
        judge, program_open, owners, user = (
            terms.judge, terms.program_open, terms.owners, terms.user
        )  # fmt: skip
        in_blocks, used, attributes, behind = terms.ageing
        open_files, open_numbers = terms.open_files, terms.open_numbers
        if not attributes:
            arrived = 0
        now, counts, sizes, floor = self._now, self._counts, self._sizes, self._floor
        ahead = now + DATED_AHEAD
        cutoff, larger = judge.cutoff, judge.larger
        newest_from = judge.newest_from(self._place)
        standing = judge.standing(program_open=program_open)
        self._ranks_all = False
        names: list[str] = []
        numbers: list[int] = []
        old = old_size = young = young_size = 0
        for name, st in files:
            _, number, device, links, owner, _, length, used_at, modified, changed = st[:10]
            if links > 1 and self.counted_before(st):
                continue
            size = st.st_blocks * 512 if in_blocks else length
            aged_from = modified
            if behind is not None:
                aged_from = max(behind(modified), behind(changed) if attributes else 0)
            if attributes:
                if changed > aged_from:
                    aged_from = changed
                if arrived > aged_from:
                    aged_from = arrived
            if used and used_at > aged_from:
                aged_from = used_at
            blocked = program_open or (number in open_numbers and (device, number) in open_files)
            reason = standing
            if keeps is not None and (entry := keeps(name)) is not None:
                reason, blocked = Reason.PROTECTED, True
                self._is_kept_by(entry, size)
                self._stay(reason, 1, size)
            elif owners is not None and owner not in owners:
                reason, blocked = Reason.FOREIGN, True
                self._stay(reason, 1, size)
            elif (
                standing is None
                and not blocked
                and aged_from <= cutoff
                and size > larger
                and aged_from < newest_from
            ):
                # most of what there is, where there is much
                old += 1
                old_size += size
            elif standing is not None:
                young += 1
                young_size += size
                blocked = blocked or aged_from > ahead
            elif size <= larger:
                reason = Reason.NOT_LARGER
                self._stay(reason, 1, size)
            elif aged_from >= newest_from:
                reason = Reason.AMONG_NEWEST
                self._stay(reason, 1, size)
                blocked = blocked or aged_from > ahead
            elif aged_from > ahead:
                reason, blocked = Reason.DATED_AHEAD, True
                self._stay(reason, 1, size)
            elif aged_from > cutoff:
                reason = Reason.TOO_YOUNG
                young += 1
                young_size += size
                if modified <= cutoff < changed:
                    self._young_by_attributes[0] += 1
                    self._young_by_attributes[1] += size
            else:
                reason = Reason.IN_USE
                self._stay(reason, 1, size)
            if not blocked and size > larger:
                day = (now - aged_from) // 86400
                if not 0 <= day < AGE_DAYS:
                    day = 0 if day < 0 else AGE_DAYS - 1
                counts[day] += 1
                sizes[day] += size
            if size > floor:
                item = SurveyedItem(
                    prefix + name, size, aged_from, st.st_dev, st.st_ino,
                    st.st_size, st.st_mtime_ns, user, reason, "", st.st_ctime_ns,
                )  # fmt: skip
                self._keep(item)
                floor = self._floor
            names.append(name)
            numbers += (size, number, st.st_mtime_ns)
        total = sum(numbers[::3])
        self._holds[0] += len(names)
        self._holds[1] += total
        self._goes[0] += old
        self._goes[1] += old_size
        self._stay(standing or Reason.TOO_YOUNG, young, young_size)
        if names:
            self._hash(_packed(numbers), [self._place, prefix, *names])
        return total

    def counted_before(self, st: FileStat) -> bool:
        """Whether a file with several names was counted by another of them; it is from now on."""
        file = (st.st_dev, st.st_ino)
        if file in self._linked:
            return True
        self._linked.add(file)
        return False

    def _stay(self, reason: Reason, count: int, size: int) -> None:
        if count:
            sums = self._stays.setdefault(reason, [0, 0])
            sums[0] += count
            sums[1] += size

    def _is_kept_by(self, entry: ProtectEntry, size: int) -> None:
        sums = self._kept_by.setdefault(entry, [0, 0])
        sums[0] += 1
        sums[1] += size

    def _keep(self, item: SurveyedItem) -> None:
        """Keep an item among the largest; the running number keeps ties from being compared."""
        self._kept += 1
        entry = (item.size, -self._kept, self._place, item)
        if len(self._largest) < LARGEST:
            heapq.heappush(self._largest, entry)
        else:
            heapq.heapreplace(self._largest, entry)
        if len(self._largest) == LARGEST:
            self._floor = self._largest[0][0]

    def _hash(self, numbers: array[int], names: list[str]) -> None:
        hashed = blake2b(numbers.tobytes(), digest_size=DIGEST_BYTES)
        hashed.update("\0".join(names).encode("utf-8", "surrogateescape"))
        self._digest += int.from_bytes(hashed.digest(), "big")

    def could_not_read(self, path: str, why: str) -> None:
        """Note a place that could not be looked at; the first hundred are named."""
        self.unread_count += 1
        if len(self.unread) < NAMED_UNREAD:
            self.unread.append(Unread(path=spell(path)[0], why=spell(why)[0]))

    def line(
        self, category_key: str, mount: str, rule: RuleInForce, *, capacity: int, free: int
    ) -> SurveyLine:
        """What was added up, as the survey's line; `capacity` and `free` are the volume's."""
        self._leave()
        names = Lookalikes()
        return SurveyLine(
            category=category_key,
            mount=mount,
            rule=rule,
            total=Tally(count=self._holds[0], size=self._holds[1]),
            capacity=capacity,
            free=free,
            removable=Tally(count=self._goes[0], size=self._goes[1]),
            kept=tuple(
                SkippedSum(reason=reason, count=count, size=size)
                for reason, (count, size) in self._stays.items()
            ),
            ages=tuple(
                AgeDay(day=day, count=count, size=within(self._sizes[day]))
                for day, count in enumerate(self._counts)
                if count
            ),
            largest=tuple(
                as_item(item, place, mount, names)
                for _, _, place, item in sorted(self._largest, key=lambda e: (-e[0], -e[1]))
            ),
            ranked=tuple(self._ranked),
            young_by_attributes=Tally(
                count=self._young_by_attributes[0], size=self._young_by_attributes[1]
            ),
            kept_sites=self.kept_sites,
            kept_by=tuple(
                ProtectedBy(entry=entry, kept=Tally(count=count, size=size))
                for entry, (count, size) in self._kept_by.items()
            ),
            digest=(self._digest % (1 << 8 * DIGEST_BYTES)).to_bytes(DIGEST_BYTES, "big").hex(),
            programs_open=tuple(sorted(self.programs_open)),
            places=most_held(self._places),
            unread=tuple(self.unread),
            unread_count=self.unread_count,
        )


def _packed(numbers: Sequence[int]) -> array[int]:
    """Numbers for a digest; times and file numbers beyond 64 bits are folded into them."""
    try:
        return array("q", numbers)
    except OverflowError:
        return array("q", [(number + _NUMBER) % (2 * _NUMBER) - _NUMBER for number in numbers])


def as_item(
    item: SurveyedItem, place: str, mount: str = "", names: Lookalikes | None = None
) -> Item:
    """A found file as the item that travels; `names` keeps those of its listing apart."""
    shown, raw = spell(item.path) if names is None else names.spell(place, item.path)
    return Item(
        place=place,
        mount=mount,
        path=shown,
        raw=raw,
        size=item.size,
        aged_from=None if item.aged_from == NOT_KNOWN else _moment(item.aged_from),
        reason=item.reason,
        user=item.user,
        group=item.group,
        seal=FileIdentity(
            device=item.device,
            file=item.file,
            size=item.apparent,
            modified_ns=item.modified_ns,
            changed_ns=item.changed_ns,
        ),
    )


def _moment(second: int) -> datetime:
    """A file's time, whatever it is: the calendar ends in the years 1 and 9999."""
    return from_seconds(min(max(second, _FIRST_SECOND), _LAST_SECOND))
