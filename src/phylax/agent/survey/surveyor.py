"""The surveyor: looks through every category on this machine and touches nothing."""

from __future__ import annotations

from functools import partial

from phylax.agent import files
from phylax.agent.config.guard import Guard
from phylax.agent.files.arrivals import Arrivals
from phylax.agent.files.walk import Complaint, Folder
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.survey.candidates import Candidates, Conditions
from phylax.agent.survey.item import Candidate
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place, Territory
from phylax.agent.survey.protection import protection_on
from phylax.agent.survey.task import SurveyListener, SurveyTask
from phylax.core.catalogue import category
from phylax.core.retention import Judge, Reason
from phylax.core.survey import (
    Ageing,
    LineCount,
    Lookalikes,
    PlaceTerms,
    SurveyedItem,
    SurveyLine,
    as_item,
)

_PORTION = 50
_NOBODY = SurveyListener()


def survey(
    machine: MachineKind,
    guard: Guard,
    task: SurveyTask,
    listener: SurveyListener = _NOBODY,
    arrivals: Arrivals | None = None,
) -> list[SurveyLine]:
    """A line for every category on every volume where it has a place."""
    territory = Territory(machine, guard, machine.volumes(), task.own_folders, task.volumes)
    arrivals = arrivals or Arrivals()
    protection = protection_on(machine, task.protect)
    conditions = Conditions(machine, territory, protection, machine.in_use(), task.now, arrivals)
    for entry in protection.folders_there:
        listener.there(entry)
    lines: list[SurveyLine] = []
    for wanted in task.rules:
        kind = category(wanted.category)
        breathe = partial(listener.watch, kind.key, 0, 0)
        candidates = Candidates(conditions, kind, wanted.rule, breathe)
        surveyed = _Look(candidates, territory, listener).lines()
        lines += surveyed
        listener.part(surveyed)
    arrivals.keep_of(territory.devices_left_out())
    return lines


class _Look:
    """The look at one category."""

    def __init__(
        self, candidates: Candidates, territory: Territory, listener: SurveyListener
    ) -> None:
        self._candidates = candidates
        self._machine = candidates.machine
        self._kind = candidates.kind
        self._territory = territory
        self._watch = listener.watch
        self._listing = listener.listing if candidates.kind.keeps_listing else None
        self._in_use: InUse = candidates.in_use
        self._names = Lookalikes()

    def lines(self) -> list[SurveyLine]:
        by_mount: dict[str, list[Place]] = {}
        for place in self._territory.places(self._kind.key):
            by_mount.setdefault(place.mount, []).append(place)
        unread = self._territory.unread(self._kind.key)
        if unread and not by_mount:
            by_mount[self._territory.somewhere] = []
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
        believed, attributes = candidates.believed, self._machine.counts_attributes
        at_once = self._listing is None and (attributes or self._kind.age != "created")
        ageing = Ageing(
            in_blocks=self._machine.sizes_as_allocated,
            used=candidates.used,
            attributes=attributes,
            behind=believed.since if believed.behind else None,
        )
        terms = PlaceTerms(
            judge, ageing, in_use.files, in_use.numbers, program_open, place.user, place.owners
        )
        for folder in candidates.files(root, place, complain):
            if at_once:
                size = count.add_folder(
                    f"{folder.path}/" if folder.path else "",
                    folder.files,
                    terms,
                    folder.arrived,
                    candidates.keeper(place, folder.path, folder.about),
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
            self._listing(self._kind.key, as_item(item, place.shown, place.mount, self._names))

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
