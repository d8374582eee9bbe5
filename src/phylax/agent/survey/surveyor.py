"""The surveyor: looks through every category on this machine and touches nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from functools import partial
from typing import Protocol

from phylax.agent import files
from phylax.agent.config.guard import Guard
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.survey.arrivals import Arrivals
from phylax.agent.survey.candidates import Weighing
from phylax.agent.survey.item import Seen
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place, Territory
from phylax.agent.survey.protection import protection_on
from phylax.agent.survey.walk import Complaint, Folder
from phylax.core.believed_time import Believed, by_clock_alone
from phylax.core.catalogue import category
from phylax.core.counting import Found, LineCount, as_item
from phylax.core.orders import CategoryRule
from phylax.core.retention import Judge, ProtectEntry, Reason
from phylax.core.survey import Item, SurveyLine

_PORTION = 50


class Stopped(Exception):
    """The work was told to stop."""


class OutOfTime(Stopped):
    """The work came to the moment by which it must have ended."""


class Watcher(Protocol):
    """Told how far the work is. May raise Stopped."""

    def __call__(self, category: str, items: int, size: int) -> None: ...


Listing = Callable[[str, Item], None]
"""Takes the items of categories whose listing is kept, one by one, with their category."""


def own_folders(look: Iterable[CategoryRule]) -> tuple[str, ...]:
    """The folders that the shop's rules name."""
    return tuple(folder for one in look for folder in one.rule.folders)


def survey(
    machine: MachineKind,
    guard: Guard,
    look: Iterable[CategoryRule],
    now: datetime | Believed,
    *,
    protect: Iterable[ProtectEntry] = (),
    watch: Watcher = lambda category, items, size: None,
    listing: Listing = lambda category, item: None,
    part: Callable[[list[SurveyLine]], None] = lambda lines: None,
    there: Callable[[ProtectEntry], None] = lambda entry: None,
    arrivals: Arrivals | None = None,
) -> list[SurveyLine]:
    """A line for every category on every volume where it has a place.

    `part` is given the lines of each category as soon as they are known, `there` each folder of
    the protect list that is there.
    """
    look = tuple(look)
    if isinstance(now, datetime):
        now = by_clock_alone(now.timestamp())
    in_use = machine.in_use()
    volumes = machine.volumes()
    territory = Territory(machine, guard, volumes, own_folders(look))
    protection = protection_on(machine, protect)
    for entry in protection.folders_there:
        there(entry)
    lines: list[SurveyLine] = []
    for wanted in look:
        kind = category(wanted.category)
        weighing = Weighing(
            machine,
            territory,
            kind,
            wanted.rule,
            protection,
            in_use,
            volumes,
            now,
            breathe=partial(watch, kind.key, 0, 0),
            arrivals=arrivals,
        )
        found = _Look(weighing, territory, watch, listing).lines()
        lines += found
        part(found)
    return lines


class _Look:
    """The look at one category."""

    def __init__(
        self, weighing: Weighing, territory: Territory, watch: Watcher, listing: Listing
    ) -> None:
        self._weighing = weighing
        self._machine = weighing.machine
        self._kind = weighing.kind
        self._territory = territory
        self._watch = watch
        self._listing = listing if weighing.kind.keeps_listing else None
        self._in_use: InUse = weighing.in_use

    def lines(self) -> list[SurveyLine]:
        by_mount: dict[str, list[Place]] = {}
        for place in self._territory.places(self._kind.key):
            by_mount.setdefault(place.mount, []).append(place)
        unread = self._territory.unread(self._kind.key)
        if unread and not by_mount:
            by_mount[self._territory.mount] = []
        lines = []
        for mount, places in by_mount.items():
            rule = self._weighing.rule
            count = LineCount(int(self._weighing.believed.now), rule.only_larger or -1)
            for one in unread:
                count.could_not_read(one.path, one.why)
            unread = []
            judge = self._weighing.judge_for(mount, places)
            for place in places:
                programs = open_programs(place, self._in_use) if place.label else ()
                count.enter(place.shown, place.user, place.label, programs)
                self._look_through(place, count, judge)
            volume = self._weighing.volume(mount)
            lines.append(
                count.line(self._kind.key, mount, rule, capacity=volume.capacity, free=volume.free)
            )
        return lines

    def _look_through(self, place: Place, count: LineCount, judge: Judge) -> None:
        open_now = open_programs(place, self._in_use)
        count.programs_open |= open_now
        if self._kind.shape == "files":
            try:
                handle = place.open()
            except OSError as error:
                # it vanished, or was swapped for a link, since the places were looked for
                count.could_not_read(place.shown, error.strerror or str(error))
                return
            try:
                self._files(handle, place, count, judge, bool(open_now))
            finally:
                files.close(handle)
            return
        complain = self._complain(place, count)
        try:
            for seen in self._weighing.items(place, complain):
                self._add(seen, place, count, judge, bool(open_now))
                self._tell(1, seen.size)
        except OSError as error:
            count.could_not_read(place.shown, error.strerror or str(error))

    def _files(
        self, root: int, place: Place, count: LineCount, judge: Judge, program_open: bool
    ) -> None:
        complain = self._complain(place, count)
        weighing, in_use = self._weighing, self._in_use
        in_blocks, used = self._machine.sizes_as_allocated, weighing.used
        attributes = self._machine.counts_attributes
        at_once = self._listing is None and (attributes or self._kind.age != "created")
        for folder in weighing.files(root, place, complain):
            if at_once:
                size = count.add_folder(
                    f"{folder.path}/" if folder.path else "",
                    folder.files,
                    judge,
                    in_use.files,
                    in_use.numbers,
                    in_blocks=in_blocks,
                    used=used,
                    attributes=attributes,
                    arrived=folder.arrived if attributes else 0,
                    behind=weighing.believed.since if weighing.believed.behind else None,
                    program_open=program_open,
                    user=place.user,
                    owners=place.owners,
                    keeps=weighing.keeper(place, folder.path, folder.about),
                )
            else:
                size = self._one_by_one(folder, place, count, judge, program_open)
            self._tell(len(folder.files), size)

    def _one_by_one(
        self, folder: Folder, place: Place, count: LineCount, judge: Judge, program_open: bool
    ) -> int:
        """Count and list the files of a folder; the bytes they hold."""
        prefix = f"{folder.path}/" if folder.path else ""
        keeps = self._weighing.keeper(place, folder.path, folder.about)
        total = 0
        for name, found in folder.files:
            if found.st_nlink > 1 and count.counted_before(found):
                continue
            seen = Seen(
                path=prefix + name,
                size=self._weighing.size(found),
                aged_from=self._weighing.aged_from(found, folder.arrived),
                device=found.st_dev,
                file=found.st_ino,
                apparent=found.st_size,
                modified_ns=found.st_mtime_ns,
                changed_ns=found.st_ctime_ns,
                group=place.shown,
                user=place.user,
                in_use=self._in_use.holds(found),
                kept_by=None if keeps is None else keeps(name),
                foreign=place.is_foreign(found),
            )
            self._add(seen, place, count, judge, program_open)
            total += seen.size
        return total

    def _add(
        self, seen: Seen, place: Place, count: LineCount, judge: Judge, program_open: bool
    ) -> None:
        """Judge, count and list one item."""
        reason = judge.why_stays(
            seen.aged_from,
            size=seen.size,
            group=seen.group,
            in_use=seen.in_use,
            program_open=program_open,
            protected=seen.protected,
            foreign=seen.foreign,
        )
        if reason is None and seen.unseen:
            reason = Reason.NO_RIGHT
        one = Found(
            seen.path, seen.size, seen.aged_from, seen.device, seen.file, seen.apparent,
            seen.modified_ns, seen.user, reason, seen.group, seen.changed_ns, seen.kept_by,
        )  # fmt: skip
        blocked = program_open or seen.in_use or seen.protected or seen.foreign
        count.add(one, blocked=blocked or reason is Reason.DATED_AHEAD)
        if seen.protected and self._kind.shape in ("sites", "visits"):
            count.kept_sites += 1
        if self._listing is not None:
            self._listing(self._kind.key, as_item(one, place.shown))

    def _complain(self, place: Place, count: LineCount) -> Complaint:
        join = self._machine.join
        return lambda path, why: count.could_not_read(join(place.shown, path), why)

    def _tell(self, items: int, size: int) -> None:
        """In portions, so that a slow machine stops in the middle of a large folder as well."""
        while items > _PORTION:
            part = size * _PORTION // items
            self._machine.pace(_PORTION)
            self._watch(self._kind.key, _PORTION, part)
            items, size = items - _PORTION, size - part
        self._machine.pace(items)
        self._watch(self._kind.key, items, size)
