"""What lies in a category's places, seen and weighed: the same for a survey and for a cleaning.

Plain files stream folder by folder; everything else (folders as a whole, trash, sites, things that
are no files) comes item by item.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from datetime import UTC, datetime

from phylax.agent import files
from phylax.agent.files.arrivals import Arrivals
from phylax.agent.files.walk import Complaint, Folder, Names, sweep, walk
from phylax.agent.machines import HOLD, InUse, MachineKind
from phylax.agent.survey.item import Candidate, Keeps, Measure, weigh
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place, Territory, deeper
from phylax.agent.survey.protection import ProtectionHere
from phylax.agent.survey.trash import trashed
from phylax.core.catalogue import Category
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.values import to_seconds
from phylax.core.protocol.trusted_time import Believed
from phylax.core.retention import (
    Caution,
    Judge,
    ProtectEntry,
    Protection,
    Ranking,
    RuleInForce,
)
from phylax.core.retention.verdicts import percent_free
from phylax.core.survey import NOT_KNOWN
from phylax.core.survey.file_stat import FileStat


class Conditions:
    """What holds for a whole survey or cleaning: the machine, what is protected and open, how its
    volumes stood when the work began (by that, pressure is judged), and what time it is."""

    def __init__(
        self,
        machine: MachineKind,
        territory: Territory,
        protection: Protection,
        in_use: InUse,
        now: Believed,
        arrivals: Arrivals,
    ) -> None:
        self.machine = machine
        self.territory = territory
        self.protection = protection
        self.in_use = in_use
        self.now = now
        self.arrivals = arrivals
        self.volumes = {reading.mount: reading for reading in territory.volumes}


class Candidates:
    """One category on one machine under one rule, at one moment."""

    def __init__(
        self,
        conditions: Conditions,
        kind: Category,
        rule: RuleInForce,
        breathe: Callable[[], None] = lambda: None,
    ) -> None:
        """`breathe` is called a few times a second in long looks, and may raise to stop."""
        self.machine = conditions.machine
        self.kind = kind
        self.rule = rule
        self.protection = conditions.protection
        self.in_use = conditions.in_use
        self.believed = conditions.now
        self.now = datetime.fromtimestamp(conditions.now.now, UTC)
        self.used = kind.age == "used"
        self._breathe = breathe
        self._arrivals = conditions.arrivals
        self._territory = conditions.territory
        self._volumes = conditions.volumes

    def volume(self, mount: str) -> ReadingIn:
        """How a volume stood; one that is not looked after has no size."""
        if mount in self._volumes:
            return self._volumes[mount]
        return ReadingIn(mount=mount, capacity=0, free=0, at=self.now)

    # --- judging -----------------------------------------------------------------------------

    def judge_for(self, mount: str, places: Iterable[Place]) -> Judge:
        """Who decides on one volume. Where the rule keeps the newest, or a size, all items are
        looked at first."""
        reading = self.volume(mount)
        ranking = Ranking(self.rule, reading.capacity, to_seconds(self.now))
        while ranking.wants_pass:
            for place in places:
                # a place that has vanished is said in the survey itself
                with suppress(OSError):
                    for group, aged_from, size in self._decided_on(place):
                        ranking.see(group, aged_from, size)
            ranking.pass_done()
        free = percent_free(reading.free, reading.capacity)
        judge = Judge.by(ranking, self.rule, self.kind.caution, self.now, free)
        return judge if self.believed.trusted else judge.mistrusting()

    def _decided_on(self, place: Place) -> Iterator[tuple[str, int, int]]:
        """(group, aged from, size) of everything that the rule decides on: not what is protected,
        in use, behind an open program or too small for it."""
        if open_programs(place, self.in_use):
            return
        larger = self.rule.only_larger or -1
        if self.kind.shape != "files":
            for candidate in self.items(place, _not_now):
                if not candidate.protected and not candidate.in_use and candidate.size > larger:
                    yield candidate.group, candidate.aged_from, candidate.size
            return
        linked: set[tuple[int, int]] = set()
        handle = place.open()
        try:
            for folder in self.files(handle, place, _not_now):
                keeps = self.keeper(place, folder.path, folder.about)
                for name, st in folder.files:
                    if st.st_nlink > 1:
                        if (st.st_dev, st.st_ino) in linked:
                            continue
                        linked.add((st.st_dev, st.st_ino))
                    size = self.size(st)
                    kept = (keeps is not None and keeps(name)) or place.is_foreign(st)
                    if size > larger and not kept and not self.in_use.holds(st):
                        yield place.shown, self.aged_from(st, folder.arrived), size
        finally:
            files.close(handle)

    # --- files -------------------------------------------------------------------------------

    def size(self, st: FileStat) -> int:
        """The bytes a file counts on its volume."""
        return st.st_blocks * 512 if self.machine.sizes_as_allocated else st.st_size

    def measure(self, place: Place) -> Measure:
        machine = self.machine
        return Measure(machine.sizes_as_allocated, machine.counts_attributes, place.owners)

    def measure_of(self, folder: FileStat) -> float:
        """When a folder itself was last changed."""
        if self.machine.counts_attributes:
            return max(folder.st_mtime, folder.st_ctime)
        return folder.st_mtime

    @property
    def ages_by_change(self) -> bool:
        """Whether the newest of contents, attributes and arrival is all that an age counts from."""
        return self.machine.counts_attributes and not self.used and not self.believed.behind

    def aged_from(self, st: FileStat, arrived: int = 0) -> int:
        """The epoch second from which a file's age counts: the newest of what is known, so that
        one that came with times of long ago is as young as it came. `arrived`: since when its
        folder lies where it lies."""
        newest = self.believed.since(int(st[8]))
        if self.machine.counts_attributes:
            newest = max(newest, self.believed.since(int(st[9])), arrived)
        if self.used:
            # with relatime or noatime the access time may be older than the modification
            return max(newest, int(st[7]))
        if self.kind.age == "created" and not self.machine.counts_attributes:
            return int(getattr(st, "st_birthtime", st.st_mtime))
        return newest

    def files(self, root: int, place: Place, complain: Complaint) -> Iterator[Folder]:
        """The folders of a place in portions, each with those of its files that count."""
        skip = self._territory.claims
        counts, leaves = place.counts, place.leaves
        only_listed = self.kind.caution is Caution.REPORT
        listed = Judge(self.rule, Caution.SAFE, self.now) if only_listed else None
        for folder in walk(
            root, complain, skip=skip, leave=leaves, barrier=place.barrier, arrivals=self._arrivals,
            not_at_top=HOLD,
        ):  # fmt: skip
            self._breathe()
            entries = folder.files
            if counts is not None:
                entries = [entry for entry in entries if counts(entry[0])]
            if leaves is not None:
                entries = [entry for entry in entries if not leaves(entry[0])]
            if place.is_shared and not folder.path:
                # at the top of a place that all may write to lies what belongs to others
                entries = [entry for entry in entries if not place.is_foreign(entry[1])]
            if listed is not None:
                # all that people have lies here, of which very little is large
                larger = listed.larger
                if self.machine.sizes_as_allocated:
                    entries = [entry for entry in entries if entry[1].st_blocks * 512 > larger]
                else:
                    entries = [entry for entry in entries if entry[1].st_size > larger]
                entries = [
                    entry
                    for entry in entries
                    if self.aged_from(entry[1], folder.arrived) <= listed.cutoff
                ]
            yield folder if entries is folder.files else folder._replace(files=entries)

    def names(self, root: int, place: Place, complain: Complaint) -> Iterator[Names]:
        """The same by name alone, for who looks at each file at the action."""
        counts, leaves = place.counts, place.leaves
        for folder in sweep(
            root,
            complain,
            skip=self._territory.claims,
            leave=leaves,
            barrier=place.barrier,
            arrivals=self._arrivals,
            not_at_top=HOLD,
        ):
            self._breathe()
            listed = folder.names
            if counts is not None:
                listed = [name for name in listed if counts(name)]
            if leaves is not None:
                listed = [name for name in listed if not leaves(name)]
            yield folder if listed is folder.names else folder._replace(names=listed)

    def keeper(self, place: Place, folder: str, about: FileStat | None = None) -> Keeps | None:
        """What in the protect list keeps a name in a folder of a place; None: it says nothing.
        `about`: what the folder itself is."""
        protection = self.protection
        if not protection.guards_files:
            return None
        join, why = self.machine.join, protection.why
        paths = [join(base, folder) for base in self._bases(place)]
        if about is not None and isinstance(protection, ProtectionHere):
            for path in paths:
                protection.meet(about, path)
        for path in paths:
            if entry := protection.why_folder(path):
                return lambda name: entry
        if len(paths) == 1:
            return lambda name: why(join(paths[0], name))
        return lambda name: _first(why(join(path, name)) for path in paths)

    @staticmethod
    def _bases(place: Place) -> list[str]:
        """A place as its people write it, and where it really is."""
        return list(dict.fromkeys((place.written or place.shown, place.path)))

    # --- items -------------------------------------------------------------------------------

    def items(self, place: Place, complain: Complaint) -> Iterator[Candidate]:
        """What lies in a place, item by item."""
        match self.kind.shape:
            case "things":
                yield from self._things(place, complain)
                return
            case "sites" | "visits":
                yield from self._sites(place, complain)
                return
        handle = place.open()
        try:
            if self.kind.shape == "trash":
                yield from self._trash(handle, place, complain)
            else:
                yield from self._folders(handle, place, complain)
        finally:
            files.close(handle)

    def _keeps_inside(self, place: Place) -> Keeps | None:
        protection, join = self.protection, self.machine.join
        if not protection.guards_files:
            return None
        bases = self._bases(place)
        return lambda path: _first(
            protection.why(join(base, path)) or protection.why_inside(join(base, path))
            for base in bases
        )

    def is_protected(self, place: Place, path: str) -> bool:
        """Whether the protect list keeps a file of a place by now."""
        protection, join = self.protection, self.machine.join
        return protection.guards_files and any(
            protection.keeps(join(base, path)) for base in self._bases(place)
        )

    def _trash(self, handle: int, place: Place, complain: Complaint) -> Iterator[Candidate]:
        keeps = self._keeps_inside(place)
        layout, measure = self.machine.trash_layout, self.measure(place)
        for candidate in trashed(handle, layout, measure, complain, keeps, self._breathe):
            in_use = not candidate.insides.isdisjoint(self.in_use.files)
            yield candidate._replace(in_use=in_use, user=place.user, group=place.shown)

    def _folders(self, handle: int, place: Place, complain: Complaint) -> Iterator[Candidate]:
        counts, keeps = place.counts, self._keeps_inside(place)
        for name in sorted(files.folder_names(handle)):
            if counts is not None and not counts(name):
                continue
            measure = self.measure(place)
            candidate = weigh(name, handle, measure, complain, keeps, breathe=self._breathe)
            if candidate is None or candidate.is_link:
                continue
            yield candidate._replace(
                in_use=not candidate.insides.isdisjoint(self.in_use.files),
                user=place.user,
                group=self.kind.group_of(name, place.shown),
            )

    def _sites(self, place: Place, complain: Complaint) -> Iterator[Candidate]:
        # SQLite is loaded by who needs it
        from phylax.agent.survey.web_stores import stores_in

        for store in stores_in(place, self.kind.shape):
            try:
                sites = list(store.sites())
            except (OSError, ValueError) as error:
                complain(store.name, str(error))
                continue
            for site in sites:
                yield Candidate(
                    path=site.host,
                    size=site.size,
                    aged_from=site.last_used,
                    device=site.device,
                    file=site.file,
                    apparent=site.size,
                    modified_ns=site.newest_ns,
                    group=place.shown,
                    user=place.user,
                    kept_by=self.protection.why_site(site.host),
                )

    def _things(self, place: Place, complain: Complaint) -> Iterator[Candidate]:
        assert place.source is not None
        try:
            things = list(self.machine.things(place.source))
        except OSError as error:
            complain("", error.strerror or str(error))
            return
        for thing in things:
            if thing.mount and thing.mount != place.mount:
                continue
            at = NOT_KNOWN if thing.aged_from is None else thing.aged_from
            yield Candidate(
                path=thing.name,
                size=thing.size,
                aged_from=at,
                apparent=thing.size,
                modified_ns=at * 10**9,
                group=thing.group or place.shown,
            )


def _first(entries: Iterable[ProtectEntry | None]) -> ProtectEntry | None:
    return next((entry for entry in entries if entry is not None), None)


def _not_now(path: str, why: str) -> None:
    """What cannot be read is said in the survey itself; ranking goes over it."""


def handle_on(place: Place, folders: Iterable[str]) -> int:
    """A handle on a folder below a place, opened name by name, never through a link."""
    handle = deeper(place.open(), folders)
    if files.about(handle).st_dev != place.device:
        files.close(handle)
        raise OSError("another volume is mounted there")
    return handle
