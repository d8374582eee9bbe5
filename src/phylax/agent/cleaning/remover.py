"""Removing the items of one category in batches: each is checked and judged right before it goes,
each has an outcome. Progress is reported, and the work stops when told to."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Callable, Iterable
from itertools import islice

from phylax.agent import files
from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.reasons import why_left
from phylax.agent.cleaning.disposal import ForGood, Going, Way
from phylax.agent.config.guard import Guard
from phylax.agent.files.walk import Names
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.platform.uptime import ClockStepDetector
from phylax.agent.survey.candidates import Candidates
from phylax.agent.survey.item import Candidate, Keeps
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place
from phylax.agent.survey.task import Stopped, Watcher
from phylax.core.retention import Judge, Reason
from phylax.core.survey.file_stat import FileStat

REFRESH = 5.0
"""Seconds after which it is looked anew what is open on the machine."""
_TELL_AT, _TELL_AFTER = 50, 0.02
"""Items and seconds after which it is told how far the work is, whichever comes first."""
CAN_GO = (stat.S_IFREG, stat.S_IFLNK)
_KIND = 0o170000
"""Of a file's mode, what kind it is."""


class OpenNow:
    """What is open on the machine, looked at anew every few seconds."""

    def __init__(self, machine: MachineKind) -> None:
        self._machine = machine
        self._found = machine.in_use()
        self._at = time.monotonic()

    def found(self) -> InUse:
        if time.monotonic() - self._at > REFRESH:
            self._found = self._machine.in_use()
            self._at = time.monotonic()
        return self._found


class Remover:
    """Lets the things of one category go."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        candidates: Candidates,
        way: Way,
        outcomes: Outcomes,
        open_now: OpenNow,
        watch: Watcher,
    ) -> None:
        self.machine = machine
        self.candidates = candidates
        self.outcomes = outcomes
        self.kind = candidates.kind
        self.way = way
        self._guard = guard
        self._open_now = open_now
        self._watch = watch
        self._untold = [0, 0]
        self._told = time.monotonic()
        self._steady = ClockStepDetector()
        self._links: dict[tuple[int, int], tuple[int, int]] = {}
        """By file: how many names it had, and how many of them went."""

    def refresh(self) -> InUse:
        """Survey again at what is open, where that was some seconds ago."""
        self.candidates.in_use = in_use = self._open_now.found()
        return in_use

    @property
    def clock_moved(self) -> bool:
        """Whether the machine's clock was set while this went on; then nothing more goes."""
        return self._steady.moved()

    # --- files -------------------------------------------------------------------------------

    def sweep(self, place: Place, folder: Names, judge: Judge) -> int:
        """Let go what the rule lets go of a portion of one open folder; how many went. Raises
        Stopped when told to stop."""
        keeps = self.candidates.keeper(place, folder.path, folder.about)
        went = 0
        for start in range(0, len(folder.names), self.way.at_once):
            names = folder.names[start : start + self.way.at_once]
            in_use = self.refresh()
            verdict = self._verdict(place, folder, judge, keeps, in_use)
            if isinstance(self.way, ForGood):
                went += self._remove(place, folder, names, verdict)
                continue
            if going := self._judged(place, folder, names, verdict):
                went += self.let_go(place, folder.path, folder.handle, going)
        self.tell()
        return went

    def _verdict(
        self,
        place: Place,
        folder: Names,
        judge: Judge,
        keeps: Keeps | None,
        in_use: InUse,
    ) -> Callable[[str, FileStat], Reason | None]:
        """Why a file of a folder stays by what it is now, or None."""
        if self.clock_moved:
            return lambda name, of: Reason.CLOCK
        candidates, arrived, shown = self.candidates, folder.arrived, place.shown
        program_open = bool(open_programs(place, in_use))
        at_top_of_shared = place.is_shared and not folder.path
        plain = keeps is None and judge.standing(program_open=program_open) is None
        cutoff, larger, newest = judge.cutoff, judge.larger, judge.newest_from(shown)
        size_of, aged_from, open_now = candidates.size, candidates.aged_from, in_use.numbers
        owners, in_blocks = place.owners, candidates.machine.sizes_as_allocated
        simple = candidates.ages_by_change

        def verdict(name: str, of: FileStat) -> Reason | None:
            if of[0] & _KIND not in CAN_GO:
                return _NOT_OURS
            if owners is not None and of[4] not in owners:
                return _NOT_OURS if at_top_of_shared else Reason.FOREIGN
            if simple:
                aged = int(max(of[8], of[9], arrived))
                size = of.st_blocks * 512 if in_blocks else of[6]
            else:
                aged, size = aged_from(of, arrived), size_of(of)
            # some hundred thousand files come through here: first without the judge's question
            if plain and aged <= cutoff and aged < newest and size > larger:
                if of[1] not in open_now or not in_use.holds(of):
                    return None
                return Reason.IN_USE
            return judge.why_stays(
                aged,
                size=size,
                group=shown,
                in_use=in_use.holds(of),
                program_open=program_open,
                protected=keeps is not None and keeps(name) is not None,
            )

        return verdict

    def _judged(
        self,
        place: Place,
        folder: Names,
        names: list[str],
        verdict: Callable[[str, FileStat], Reason | None],
    ) -> list[Going]:
        """Those of some names that may go, by what they are now; of the others it is said."""
        size_of, look = self.candidates.size, files.looker(folder.handle)
        going = []
        for name in names:
            try:
                of = look(name)
            except FileNotFoundError:
                continue
            except OSError as error:
                self.leave(place, folder.path, name, 0, *why_left(error))
                continue
            if (reason := verdict(name, of)) is None:
                going.append(Going(name, size_of(of), of))
            else:
                self._stays(place, folder, name, of, reason)
        return going

    def _stays(self, place: Place, folder: Names, name: str, of: FileStat, reason: Reason) -> None:
        if reason is not _NOT_OURS:
            self.leave(place, folder.path, name, self.candidates.size(of), reason)

    def _remove(
        self,
        place: Place,
        folder: Names,
        names: list[str],
        verdict: Callable[[str, FileStat], Reason | None],
    ) -> int:
        """Look at each of some names, judge it and remove it in the same breath."""
        way, handle, now = self.way, folder.handle, time.monotonic
        size_of, look, unlink = self.candidates.size, files.looker(handle), files.unlinker(handle)
        try:
            way.announce(place, folder.path, names)
        except OSError as error:
            # not noted, not touched
            for name in names:
                self.leave(place, folder.path, name, 0, *why_left(error))
            return 0
        went = went_size = reported = told_size = 0
        tell_at = now() + _TELL_AFTER
        try:
            for name in names:
                try:
                    of = look(name)
                    if (reason := verdict(name, of)) is not None:
                        self._stays(place, folder, name, of, reason)
                        continue
                    unlink(name)
                except FileNotFoundError:
                    continue
                except OSError as error:
                    self.leave(place, folder.path, name, 0, *why_left(error))
                    continue
                size = size_of(of)
                went += 1
                went_size += self._counts(size, of) if self._links or of[3] > 1 else size
                if went % 8 == 0 and (went - reported >= _TELL_AT or now() > tell_at):
                    self._count(went - reported, went_size - told_size)
                    reported, told_size, tell_at = went, went_size, now() + _TELL_AFTER
        finally:
            way.went(went, went_size)
            way.done()
        self._count(went - reported, went_size - told_size)
        return went

    def let_go(self, place: Place, folder: str, handle: int, going: list[Going]) -> int:
        """Move some files of an open folder away, each known by what it was when it was judged; how
        many went."""
        way = self.way
        try:
            way.announce(place, folder, [entry.name for entry in going], going)
        except OSError as error:
            for entry in going:
                self.leave(place, folder, entry.name, entry.size, *why_left(error))
            return 0
        went = went_size = 0
        try:
            for index, why in way.let_go(going, handle):
                file = going[index]
                if why is not None:
                    self.leave(place, folder, file.name, file.size, *why)
                    continue
                went += 1
                linked = self._links or file.of[3] > 1
                went_size += self._counts(file.size, file.of) if linked else file.size
        finally:
            way.went(went, went_size)
            way.done()
        self._count(len(going), went_size)
        return went

    def _counts(self, size: int, st: FileStat) -> int:
        """The bytes that come free with a name: none while the file has other names."""
        inode = (st.st_dev, st.st_ino)
        had, went = self._links.get(inode, (st.st_nlink, 0))
        if had < 2:
            return size
        went += 1
        self._links[inode] = had, went
        if went < had:
            self.outcomes.link_went(self.kind.key, 1, size if went == 1 else 0)
            return 0
        self.outcomes.link_went(self.kind.key, 1 - went, -size)
        return size

    # --- items -------------------------------------------------------------------------------

    def items(
        self,
        place: Place,
        candidates: Iterable[Candidate],
        stays: Callable[[Candidate], bool],
    ) -> None:
        """Let items go that are no plain files, in portions that are noted at once. `stays` says,
        and tells, whether one stays: asked once to know what may go, and again right before it
        goes. Raises Stopped when told to stop."""
        left = (candidate for candidate in candidates if not stays(candidate))
        while portion := list(islice(left, self.way.at_once)):
            self.way.prepare(place, portion)
            for candidate in portion:
                if not stays(candidate):
                    self.item(place, candidate)

    def item(self, place: Place, candidate: Candidate) -> None:
        """Let one item go that is no plain file. Raises Stopped when told to stop."""
        why: tuple[Reason, str] | None = None
        size = candidate.size
        try:
            why = self._why_forbidden(place, candidate)
            if why is None:
                left = self.way.item(place, candidate, self.candidates.measure(place), self.tell)
                if left is not None:
                    why, size = (left.reason, left.detail), candidate.size - left.size
                    if left.size:
                        # part of it went: its bytes are free, the item itself stays
                        self.way.went(0, left.size)
        except OSError as error:
            why = why_left(error)
        except Stopped:
            self.leave(
                place,
                "",
                candidate.path,
                candidate.size,
                Reason.CALLED_OFF,
                "part of it may be gone",
            )
            self.way.done()
            raise
        if why is not None:
            self.leave(place, "", candidate.path, max(size, 0), *why)
        else:
            self.way.went(1, candidate.size)
        self.way.done()
        self._count(1, candidate.size)

    def _why_forbidden(self, place: Place, candidate: Candidate) -> tuple[Reason, str] | None:
        if self.kind.shape != "folders":
            return None
        forbidden = self._guard.why_forbidden(os.path.join(place.path, candidate.path))
        return (Reason.FORBIDDEN, forbidden) if forbidden else None

    # --- telling -----------------------------------------------------------------------------

    def leave(
        self, place: Place, folder: str, name: str, size: int, reason: Reason, detail: str = ""
    ) -> None:
        """Something stays, for a reason."""
        path = f"{folder}/{name}" if folder else name
        self.outcomes.leave(self.kind.key, place.shown, path, size, reason, detail)

    def could_not_read(self, path: str, why: str) -> None:
        self.outcomes.could_not_read(self.kind.key)

    def _count(self, items: int, size: int) -> None:
        self._untold[0] += items
        self._untold[1] += size
        if self._untold[0] >= _TELL_AT or time.monotonic() - self._told > _TELL_AFTER:
            self.tell()

    def tell(self) -> None:
        """Tell how far the work is. Raises Stopped when told to stop."""
        items, size = self._untold
        self._untold = [0, 0]
        if items:
            self.machine.pace(items)
        self._watch(self.kind.key, items, size)
        self._told = time.monotonic()


_NOT_OURS = Reason.NOT_AGREED
"""What does not count here at all: pipes, sockets, and what others put into a shared folder."""
