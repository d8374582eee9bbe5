"""The surveyor: looks through every category on this machine and touches nothing."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Protocol

from phylax.agent.guard import Guard
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.places import Place, places
from phylax.agent.trash import trashed
from phylax.agent.walk import Folder, walk
from phylax.core.catalogue import AgeBasis, category
from phylax.core.counting import Found, LineCount, as_item
from phylax.core.orders import CategoryRule
from phylax.core.retention import Caution, Judge
from phylax.core.survey import Item, SurveyLine, Unread
from phylax.core.values import to_seconds

_MODIFIED = stat.ST_MTIME


class Stopped(Exception):
    """The work was told to stop."""


class Watcher(Protocol):
    """Told how far the work is. May raise Stopped."""

    def __call__(self, category: str, items: int, size: int) -> None: ...


Listing = Callable[[str, Item], None]
"""Takes the items of `ask` categories one by one, with their category."""


def survey(
    machine: MachineKind,
    guard: Guard,
    look: Iterable[CategoryRule],
    now: datetime,
    *,
    watch: Watcher = lambda category, items, size: None,
    listing: Listing = lambda category, item: None,
) -> list[SurveyLine]:
    """A line for every category on every volume where it has a place."""
    in_use = machine.in_use()
    lines: list[SurveyLine] = []
    for wanted in look:
        lines += _Look(machine, guard, wanted, now, in_use, watch, listing).lines()
    return lines


class _Look:
    """The look at one category."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        wanted: CategoryRule,
        now: datetime,
        in_use: InUse,
        watch: Watcher,
        listing: Listing,
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._wanted = wanted
        self._category = category(wanted.category)
        self._judge = Judge(wanted.rule, self._category.caution, now)
        self._now = to_seconds(now)
        self._in_use = in_use
        self._watch = watch
        self._listing = listing if self._category.caution is Caution.ASK else None
        self._counts: dict[str, LineCount] = {}
        self._aged_field = _MODIFIED if self._category.age == "modified" else None

    def lines(self) -> list[SurveyLine]:
        unread: list[Unread] = []
        for place in places(self._machine, self._guard, self._category, unread):
            count = self._counts.setdefault(place.mount, LineCount(self._now))
            count.enter(place.shown)
            self._look_through(place, count)
        if unread:
            mount = self._machine.volumes()[0].mount
            count = self._counts.setdefault(mount, LineCount(self._now))
            for one in unread:
                count.could_not_read(one.path, one.why)
        return [
            count.line(self._category.key, mount, self._wanted.rule)
            for mount, count in self._counts.items()
        ]

    def _look_through(self, place: Place, count: LineCount) -> None:
        program_open = bool(place.programs & self._in_use.programs)
        if program_open:
            count.programs_open |= place.programs & self._in_use.programs
        handle = place.open()
        try:
            if self._category.shape == "trash":
                self._trash(handle, place, count)
            else:
                self._files(handle, place, count, program_open)
        finally:
            os.close(handle)

    def _files(self, root: int, place: Place, count: LineCount, program_open: bool) -> None:
        complain = self._complain(place, count)
        for folder in walk(root, complain):
            prefix = f"{folder.path}/" if folder.path else ""
            if self._listing is None and self._aged_field is not None:
                size = count.add_folder(
                    prefix,
                    folder.files,
                    self._judge,
                    self._in_use.files,
                    in_blocks=self._machine.sizes_as_allocated,
                    aged_field=self._aged_field,
                    program_open=program_open,
                    user=place.user,
                )
            else:
                size = self._one_by_one(prefix, folder, place, count, program_open)
            self._tell(len(folder.files), size)

    def _one_by_one(
        self, prefix: str, folder: Folder, place: Place, count: LineCount, program_open: bool
    ) -> int:
        """Count and list the files of a folder; the bytes they hold."""
        total = 0
        for name, found in folder.files:
            file = (found.st_dev, found.st_ino)
            if found.st_nlink > 1 and count.counted_before(found):
                continue
            size = found.st_blocks * 512 if self._machine.sizes_as_allocated else found.st_size
            aged_from = age_of(self._category.age)(found)
            reason = self._judge.why_stays(
                aged_from, in_use=file in self._in_use.files, program_open=program_open
            )
            one = Found(
                prefix + name, size, aged_from, *file, found.st_size, found.st_mtime_ns,
                place.user, reason,
            )  # fmt: skip
            count.add(one)
            total += size
            if self._listing is not None:
                self._listing(self._category.key, as_item(one, place.shown))
        return total

    def _trash(self, root: int, place: Place, count: LineCount) -> None:
        complain = self._complain(place, count)
        layout = self._machine.trash_layout
        for one in trashed(root, layout, self._machine.sizes_as_allocated, complain):
            in_use = not one.insides.isdisjoint(self._in_use.files)
            reason = self._judge.why_stays(one.deleted_at, in_use=in_use)
            found = one.found
            count.add(
                Found(
                    path=one.name,
                    size=one.size,
                    aged_from=one.deleted_at,
                    device=found.st_dev,
                    file=found.st_ino,
                    apparent=found.st_size,
                    modified_ns=found.st_mtime_ns,
                    user=place.user,
                    reason=reason,
                )
            )
            self._tell(1, one.size)

    def _complain(self, place: Place, count: LineCount) -> Callable[[str, str], None]:
        join = self._machine.join
        return lambda path, why: count.could_not_read(join(place.shown, path), why)

    def _tell(self, items: int, size: int) -> None:
        self._machine.pace(items)
        self._watch(self._category.key, items, size)


def age_of(basis: AgeBasis) -> Callable[[os.stat_result], int]:
    """From which epoch second a file's age counts."""
    match basis:
        case "modified" | "deleted":
            return _modified
        case "created":
            return _created
        case "used":
            return _used


def _modified(found: os.stat_result) -> int:
    return int(found.st_mtime)


def _created(found: os.stat_result) -> int:
    return int(getattr(found, "st_birthtime", found.st_mtime))


def _used(found: os.stat_result) -> int:
    # with relatime or noatime the access time may be older than the modification
    return int(max(found.st_atime, found.st_mtime))
