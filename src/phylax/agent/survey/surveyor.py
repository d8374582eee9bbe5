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
from phylax.agent.survey.candidates import Candidates
from phylax.agent.survey.item import Candidate
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place, Territory
from phylax.agent.survey.protection import protection_on
from phylax.agent.survey.walk import Complaint, Folder
from phylax.core.believed_time import Believed, by_clock_alone
from phylax.core.catalogue import category
from phylax.core.protocol import CategoryRule
from phylax.core.retention import Judge, ProtectEntry, Reason
from phylax.core.survey import Item, LineCount, SurveyedItem, SurveyLine, as_item

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
    return tuple(folder for rule in look for folder in rule.rule.folders)


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
        candidates = Candidates(
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
        surveyed = _Look(candidates, territory, watch, listing).lines()
        lines += surveyed
        part(surveyed)
    return lines


class _Look:
    """The look at one category."""

    def __init__(
        self, candidates: Candidates, territory: Territory, watch: Watcher, listing: Listing
    ) -> None:
        self._candidates = candidates
        self._machine = candidates.machine
        self._kind = candidates.kind
        self._territory = territory
        self._watch = watch
        self._listing = listing if candidates.kind.keeps_listing else None
        self._in_use: InUse = candidates.in_use

    def lines(self) -> list[SurveyLine]:
        by_mount: dict[str, list[Place]] = {}
        for place in self._territory.places(self._kind.key):
            by_mount.setdefault(place.mount, []).append(place)
        unread = self._territory.unread(self._kind.key)
        if unread and not by_mount:
            by_mount[self._territory.mount] = []
        lines = []
        for mount, places in by_mount.items():
            rule = self._candidates.rule
            count = LineCount(int(self._candidates.believed.now), rule.only_larger or -1)
            for entry in unread:
                count.could_not_read(entry.path, entry.why)
            unread = []
            judge = self._candidates.judge_for(mount, places)
            for place in places:
                programs = open_programs(place, self._in_use) if place.label else ()
                count.enter(place.shown, place.user, place.label, programs)
                self._look_through(place, count, judge)
            volume = self._candidates.volume(mount)
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
            for candidate in self._candidates.items(place, complain):
                self._add(candidate, place, count, judge, bool(open_now))
                self._tell(1, candidate.size)
        except OSError as error:
            count.could_not_read(place.shown, error.strerror or str(error))

    def _files(
        self, root: int, place: Place, count: LineCount, judge: Judge, program_open: bool
    ) -> None:
        complain = self._complain(place, count)
        candidates, in_use = self._candidates, self._in_use
        in_blocks, used = self._machine.sizes_as_allocated, candidates.used
        attributes = self._machine.counts_attributes
        at_once = self._listing is None and (attributes or self._kind.age != "created")
        for folder in candidates.files(root, place, complain):
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
                    behind=candidates.believed.since if candidates.believed.behind else None,
                    program_open=program_open,
                    user=place.user,
                    owners=place.owners,
                    keeps=candidates.keeper(place, folder.path, folder.about),
                )
            else:
                size = self._one_by_one(folder, place, count, judge, program_open)
            self._tell(len(folder.files), size)

    def _one_by_one(
        self, folder: Folder, place: Place, count: LineCount, judge: Judge, program_open: bool
    ) -> int:
        """Count and list the files of a folder; the bytes they hold."""
        prefix = f"{folder.path}/" if folder.path else ""
        keeps = self._candidates.keeper(place, folder.path, folder.about)
        total = 0
        for name, st in folder.files:
            if st.st_nlink > 1 and count.counted_before(st):
                continue
            candidate = Candidate(
                path=prefix + name,
                size=self._candidates.size(st),
                aged_from=self._candidates.aged_from(st, folder.arrived),
                device=st.st_dev,
                file=st.st_ino,
                apparent=st.st_size,
                modified_ns=st.st_mtime_ns,
                changed_ns=st.st_ctime_ns,
                group=place.shown,
                user=place.user,
                in_use=self._in_use.holds(st),
                kept_by=None if keeps is None else keeps(name),
                foreign=place.is_foreign(st),
            )
            self._add(candidate, place, count, judge, program_open)
            total += candidate.size
        return total

    def _add(
        self, candidate: Candidate, place: Place, count: LineCount, judge: Judge, program_open: bool
    ) -> None:
        """Judge, count and list one item."""
        reason = judge.why_stays(
            candidate.aged_from,
            size=candidate.size,
            group=candidate.group,
            in_use=candidate.in_use,
            program_open=program_open,
            protected=candidate.protected,
            foreign=candidate.foreign,
        )
        if reason is None and candidate.unseen:
            reason = Reason.NO_RIGHT
        item = SurveyedItem(
            candidate.path,
            candidate.size,
            candidate.aged_from,
            candidate.device,
            candidate.file,
            candidate.apparent,
            candidate.modified_ns,
            candidate.user,
            reason,
            candidate.group,
            candidate.changed_ns,
            candidate.kept_by,
        )
        blocked = program_open or candidate.in_use or candidate.protected or candidate.foreign
        count.add(item, blocked=blocked or reason is Reason.DATED_AHEAD)
        if candidate.protected and self._kind.shape in ("sites", "visits"):
            count.kept_sites += 1
        if self._listing is not None:
            self._listing(self._kind.key, as_item(item, place.shown))

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
