"""The cleaner: lets go what the rule lets go, decides again on the spot, and says what it left.

A cleaning is a pass over the places of its categories. `safe` categories are judged afresh, file
by file; of an `ask` category exactly the agreed items go (`agreed`). How things go, for good or
into the hold, is `letting_go`'s.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from contextlib import closing
from datetime import datetime
from typing import NamedTuple

from phylax.agent import files
from phylax.agent.agreed import Agreed
from phylax.agent.guard import Guard, why_not_cleaned
from phylax.agent.hand import Going, Hand, OpenNow
from phylax.agent.hold import Hold
from phylax.agent.journal import RunJournal
from phylax.agent.letting_go import ForGood, IntoHold, Way
from phylax.agent.locks import open_programs
from phylax.agent.machines import MachineKind
from phylax.agent.outcomes import Outcomes
from phylax.agent.places import Place, Territory
from phylax.agent.surveyor import Watcher
from phylax.agent.walk import Folder
from phylax.agent.weighing import Weighing
from phylax.core.catalogue import Category, category
from phylax.core.orders import AgreedListing, CategoryOutcome
from phylax.core.retention import Judge, ProtectEntry, Protection, RuleInForce
from phylax.core.survey import Item, Tally

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
        run_id: int,
        now: datetime,
        watch: Watcher,
        *,
        own_folders: Iterable[str] = (),
        protect: Iterable[ProtectEntry] = (),
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._journal = journal
        self._hold = hold
        self._run_id = run_id
        self._now = now
        self._watch = watch
        self._open_now = OpenNow(machine)
        self._volumes = machine.volumes()
        self._territory = Territory(machine, guard, self._volumes, own_folders)
        self._protection = Protection(protect, machine.system)
        self.outcomes = Outcomes()
        self._told_unread: set[str] = set()
        self.again: dict[str, list[Item]] = {}
        """By category: what was agreed to and left because it, or its program, was open."""

    def plan(self, keys: Iterable[str], rules: Mapping[str, RuleInForce]) -> list[Job]:
        """The work in the order it is done: what goes for good before what is held, for it makes
        the room; quick disks before slow ones, so that a slow one holds nobody up."""
        disks = {volume.mount: volume.disk for volume in self._volumes}
        jobs: list[tuple[bool, int, Job]] = []
        for key in keys:
            places = self._territory.places(key)
            for mount in dict.fromkeys(place.mount for place in places) or (None,):
                slow = _SLOWNESS[disks.get(mount or "", "unknown")]
                held = bool(category(key).held_for(rules[key]))
                jobs.append((held, slow, Job(key, mount)))
        return [job for _, _, job in sorted(jobs, key=lambda one: one[:2])]

    def clean(
        self,
        key: str,
        rule: RuleInForce,
        agreed: Iterable[AgreedListing],
        *,
        standing: bool = False,
        mount: str | None = None,
    ) -> None:
        """Clean one category, on one volume or all. Raises Stopped when told to stop; journal and
        hold then know the rest.

        `standing` says that an `ask` category may go by its rule, by a standing consent.
        """
        kind = category(key)
        listings = [listing for listing in agreed if listing.category == key]
        why = self._guard.why_not_category(key) or why_not_cleaned(
            kind, agreed=bool(listings) or standing
        )
        if why:
            self.outcomes.problems.append(why)
            return
        found = [p for p in self._territory.places(key) if mount is None or p.mount == mount]
        if key not in self._told_unread:
            self._told_unread.add(key)
            for _ in self._territory.unread(key):
                self.outcomes.could_not_read(key)
        if kind.held_for(rule):
            into = IntoHold(self._hold, self._run_id, kind, rule, self._machine, self._now)
            with closing(into):
                self._clean(kind, rule, into, found, listings)
        else:
            way = ForGood(self._machine, self._journal, kind)
            self._clean(kind, rule, way, found, listings)

    def _clean(
        self,
        kind: Category,
        rule: RuleInForce,
        way: Way,
        found: list[Place],
        listings: list[AgreedListing],
    ) -> None:
        weighing = Weighing(
            self._machine,
            self._territory,
            kind,
            rule,
            self._protection,
            self._open_now.found(),
            self._volumes,
            self._now,
            breathe=lambda: self._watch(kind.key, 0, 0),
        )
        hand = Hand(
            self._machine, self._guard, weighing, way, self.outcomes, self._open_now, self._watch
        )
        if listings:
            for listing in listings:
                agreed = Agreed(hand, self._protection)
                self.again[kind.key] = agreed.again
                agreed.clean(found, listing.items)
            return
        by_mount: dict[str, list[Place]] = {}
        for place in found:
            by_mount.setdefault(place.mount, []).append(place)
        for places in by_mount.values():
            judge = weighing.judge_for(places[0].mount, places)
            for place in places:
                _clean_place(hand, place, judge, sweep=isinstance(way, ForGood))

    def start_over(self, key: str, *, keep: bool) -> None:
        """A further pass over a category: what was left is looked at anew. `keep`: but only what
        was left for being open, for the rest of what was agreed is not gone over again."""
        self._open_now = OpenNow(self._machine)
        if keep:
            self.outcomes.forget_open(key)
        else:
            self._told_unread.discard(key)
            self.outcomes.forget(key)

    def outcome(self, key: str) -> CategoryOutcome:
        """What became of a category, in this run as a whole."""
        held = sum(
            (b.tally() for b in self._hold.of_run(self._run_id) if b.head.category == key), Tally()
        )
        return self.outcomes.of(key, self._journal.removed_of(key), held)


def _clean_place(hand: Hand, place: Place, judge: Judge, *, sweep: bool) -> None:
    """Everything in one place, judged on the spot. `sweep`: emptied folders go as well."""
    try:
        if hand.kind.shape == "files":
            handle = place.open()
            try:
                _clean_files(hand, place, handle, judge, sweep=sweep)
            finally:
                files.close(handle)
        else:
            _clean_items(hand, place, judge)
    except OSError:
        # the place vanished, or was swapped for a link, since it was looked for
        hand.outcomes.could_not_read(hand.kind.key)


def _clean_files(hand: Hand, place: Place, root: int, judge: Judge, *, sweep: bool) -> None:
    weighing = hand.weighing
    for folder in weighing.files(root, place, hand.could_not_read, bottom_up=True):
        in_use = hand.refresh()
        program_open = bool(open_programs(place, in_use)) if folder.files else False
        keeps = weighing.keeper(place, folder)
        going: list[Going] = []
        rest = folder.files
        if keeps is None and judge.standing(program_open=program_open) is None:
            going, rest = _plainly_going(weighing, folder, judge, place.shown)
        for name, found in rest:
            size = weighing.size(found)
            reason = judge.why_stays(
                weighing.aged_from(found),
                size=size,
                group=place.shown,
                in_use=in_use.holds(found),
                program_open=program_open,
                protected=keeps is not None and keeps(name),
            )
            if reason is None:
                going.append((name, size, found))
            else:
                hand.leave(place, folder.path, name, size, reason)
        went = hand.files(place, folder.path, folder.handle, going)
        if sweep and went and went == len(folder.files):
            _remove_if_empty(folder, judge)


def _plainly_going(
    weighing: Weighing, folder: Folder, judge: Judge, group: str
) -> tuple[list[Going], list[tuple[str, os.stat_result]]]:
    """The files that go by their age and size and are not open; and all others, to be judged one
    by one. The same verdict as the judge's, without its question for each of very many."""
    cutoff, larger, newest = judge.cutoff, judge.larger, judge.newest_from(group)
    size_of, aged_from, open_now = weighing.size, weighing.aged_from, weighing.in_use.numbers
    going: list[Going] = []
    rest = []
    for one in folder.files:
        name, found = one
        aged, size = aged_from(found), size_of(found)
        if aged <= cutoff and aged < newest and size > larger and found[1] not in open_now:
            going.append((name, size, found))
        else:
            rest.append(one)
    return going, rest


def _remove_if_empty(folder: Folder, judge: Judge) -> None:
    """A folder that the cleaning emptied goes too, if it is as old as its files had to be."""
    if folder.parent == -1 or folder.changed > judge.cutoff:
        return
    try:
        files.rmdir(folder.name, folder.parent)
    except OSError:
        # not empty after all, or not ours to remove: an empty folder costs nobody anything
        return


def _clean_items(hand: Hand, place: Place, judge: Judge) -> None:
    """What is no plain file, item by item."""
    for seen in list(hand.weighing.items(place, hand.could_not_read)):
        in_use = hand.refresh()
        reason = judge.why_stays(
            seen.aged_from,
            size=seen.size,
            group=seen.group,
            in_use=not seen.insides.isdisjoint(in_use.files),
            program_open=bool(open_programs(place, in_use)),
            protected=seen.protected,
        )
        if reason is None:
            hand.item(place, seen)
        else:
            hand.leave(place, "", seen.path, seen.size, reason)
