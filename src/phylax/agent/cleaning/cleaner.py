"""The cleaner: lets go what the rule lets go, decides again on the spot, and says what it left.

A cleaning is a pass over the places of its categories. `safe` categories are judged afresh, file
by file; of an `ask` category exactly the consented items go (`consented`). How things go, for good
or into the hold, is `disposal`'s.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing
from datetime import UTC, datetime
from functools import partial
from typing import NamedTuple

from phylax.agent import files
from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.cleaning.aside import Aside
from phylax.agent.cleaning.consented import ConsentedItems
from phylax.agent.cleaning.disposal import ForGood, IntoHold, Way
from phylax.agent.cleaning.remover import OpenNow, Remover
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import Guard, why_not_cleaned
from phylax.agent.files.arrivals import Arrivals
from phylax.agent.files.walk import Names
from phylax.agent.hold.hold import Hold
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.survey.candidates import Candidates, Conditions
from phylax.agent.survey.item import Candidate
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place, Territory
from phylax.agent.survey.protection import protection_on
from phylax.agent.survey.task import Watcher, own_folders
from phylax.core.catalogue import Category, category
from phylax.core.ground.tally import Tally
from phylax.core.protocol import AgreedListing, CategoryOutcome
from phylax.core.retention import Judge, Reason, RuleInForce
from phylax.core.survey import Item

_SLOWNESS = {"ssd": 0, "unknown": 1, "spinning": 2}


class Job(NamedTuple):
    """One category on one volume; wherever it is, where that is None."""

    category: str
    mount: str | None


class Cleaner:
    """Cleans one machine once."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        journal: RunJournal,
        hold: Hold,
        task: CleaningPass,
        watch: Watcher,
        arrivals: Arrivals | None = None,
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._journal = journal
        self._hold = hold
        self._task = task
        self._watch = watch
        self._open_now = OpenNow(machine)
        self._territory = Territory(
            machine, guard, machine.volumes(), own_folders(task.rules), task.volumes
        )
        self._conditions = Conditions(
            machine,
            self._territory,
            protection_on(machine, task.protect),
            InUse(),
            task.now,
            arrivals or Arrivals(),
        )
        self.outcomes = Outcomes()
        self._told_unread: set[str] = set()
        self.again: dict[str, list[Item]] = {}
        """By category: what was agreed to and left because it, or its program, was open."""

    def plan(self) -> list[Job]:
        """The work in the order it is done: what goes for good before what is held, for it makes
        the room; quick disks before slow ones, so that a slow one holds nobody up."""
        disks = {volume.mount: volume.disk for volume in self._territory.volumes}
        jobs: list[tuple[bool, int, Job]] = []
        for key in self._task.keys:
            places = self._territory.places(key)
            held = bool(category(key).held_for(self._task.rule(key)))
            for mount in dict.fromkeys(place.mount for place in places) or (None,):
                slow = _SLOWNESS[disks.get(mount or "", "unknown")]
                jobs.append((held, slow, Job(key, mount)))
        return [job for _, _, job in sorted(jobs, key=lambda ranked: ranked[:2])]

    def go_over(self) -> None:
        """One pass, in the order of the plan. Raises Stopped when told to stop."""
        for job in self.plan():
            # what was agreed item by item is gone over once, wherever it is
            self.clean(job.category, None if self._task.listings_of(job.category) else job.mount)

    def clean(self, key: str, mount: str | None = None) -> None:
        """Clean one category, on one volume or all. Raises Stopped when told to stop; journal and
        hold then know the rest."""
        task = self._task
        kind, rule, listings = category(key), task.rule(key), task.listings_of(key)
        why = self._guard.why_not_category(key) or why_not_cleaned(
            kind, agreed=bool(listings) or key in task.standing
        )
        if why:
            self.outcomes.problems.append(why)
            return
        places = [p for p in self._territory.places(key) if mount is None or p.mount == mount]
        if key not in self._told_unread:
            self._told_unread.add(key)
            for _ in self._territory.unread(key):
                self.outcomes.could_not_read(key)
        files_or_folders = kind.shape in ("files", "folders", "trash")
        if kind.held_for(rule) or kind.goes_aside or (files_or_folders and listings):
            way_of = IntoHold if kind.held_for(rule) else Aside
            now = datetime.fromtimestamp(task.now.now, UTC)
            into = way_of(self._hold, self._journal, task.run_id, kind, rule, self._machine, now)
            with closing(into):
                self._clean(kind, rule, into, places, listings)
        else:
            way = ForGood(self._machine, self._journal, kind)
            self._clean(kind, rule, way, places, listings)

    def _clean(
        self,
        kind: Category,
        rule: RuleInForce,
        way: Way,
        here: list[Place],
        listings: list[AgreedListing],
    ) -> None:
        self._conditions.in_use = self._open_now.found()
        candidates = Candidates(
            self._conditions, kind, rule, breathe=partial(self._watch, kind.key, 0, 0)
        )
        remover = Remover(
            self._machine, self._guard, candidates, way, self.outcomes, self._open_now, self._watch
        )
        if listings:
            for listing in listings:
                if not self._task.now.trusted:
                    self._leave_all(kind, listing)
                    continue
                agreed = ConsentedItems(remover)
                self.again[kind.key] = agreed.again
                agreed.clean(here, self._chosen(kind, listing.items))
            return
        by_mount: dict[str, list[Place]] = {}
        for place in here:
            by_mount.setdefault(place.mount, []).append(place)
        for places in by_mount.values():
            judge = candidates.judge_for(places[0].mount, places)
            for place in places:
                _clean_place(remover, place, judge, sweep=not kind.held_for(rule))

    def _chosen(self, kind: Category, items: Iterable[Item]) -> Iterator[Item]:
        """What was agreed to, but for what lies on volumes that are not chosen."""
        for item in items:
            if self._territory.is_elsewhere(kind.key, item.place):
                self.outcomes.leave(kind.key, item.place, item.path, item.size, Reason.OTHER_VOLUME)
            else:
                yield item

    def _leave_all(self, kind: Category, listing: AgreedListing) -> None:
        """Nothing goes while the clock is not trusted, agreed to or not."""
        for item in listing.items:
            self.outcomes.leave(kind.key, item.place, item.path, item.size, Reason.CLOCK)

    def outcome(self, key: str) -> CategoryOutcome:
        """What became of a category, in this run as a whole."""
        mine = self._hold.of_run(self._journal.identity)
        held = sum((batch.tally() for batch in mine if batch.head.category == key), Tally())
        return self.outcomes.of(key, self._journal.removed_of(key), held)


def _clean_place(remover: Remover, place: Place, judge: Judge, *, sweep: bool) -> None:
    """Everything in one place, judged on the spot. `sweep`: emptied folders go as well."""
    try:
        if remover.kind.shape == "files":
            handle = place.open()
            try:
                _clean_files(remover, place, handle, judge, sweep=sweep)
            finally:
                files.close(handle)
        else:
            _clean_items(remover, place, judge)
    except OSError:
        # the place vanished, or was swapped for a link, since it was looked for
        remover.outcomes.could_not_read(remover.kind.key)


def _clean_files(remover: Remover, place: Place, root: int, judge: Judge, *, sweep: bool) -> None:
    emptied = [False]
    """For each folder on the way: something in it has gone."""
    for folder in remover.candidates.names(root, place, remover.could_not_read):
        depth = folder.path.count("/") + 2 if folder.path else 1
        emptied += [False] * (depth - len(emptied))
        if folder.left:
            went = emptied.pop()
            if sweep and went and _remove_if_empty(remover, folder, judge):
                emptied[-1] = True
            continue
        if remover.sweep(place, folder, judge):
            emptied[depth - 1] = True


def _remove_if_empty(remover: Remover, folder: Names, judge: Judge) -> bool:
    """A folder that the cleaning emptied goes too, if it is as old as its files had to be."""
    was = folder.about
    if folder.parent == -1 or remover.candidates.measure_of(was) > judge.cutoff:
        return False
    try:
        files.rmdir(folder.name, folder.parent)
    except OSError:
        # not empty after all, or not ours to remove: an empty folder costs nobody anything
        return False
    return True


def _clean_items(remover: Remover, place: Place, judge: Judge) -> None:
    """What is no plain file, item by item."""

    def stays(candidate: Candidate) -> bool:
        in_use, detail = remover.refresh(), ""
        reason = judge.why_stays(
            candidate.aged_from,
            size=candidate.size,
            group=candidate.group,
            in_use=not candidate.insides.isdisjoint(in_use.files),
            program_open=bool(open_programs(place, in_use)),
            protected=candidate.protected,
            foreign=candidate.foreign,
        )
        if reason is None and remover.clock_moved:
            reason = Reason.CLOCK
        if reason is None and candidate.unseen:
            reason, detail = Reason.NO_RIGHT, candidate.unseen
        if reason is not None:
            remover.leave(place, "", candidate.path, candidate.size, reason, detail)
        return reason is not None

    remover.items(place, list(remover.candidates.items(place, remover.could_not_read)), stays)
