"""The hand that lets things go: batch by batch, each thing looked at once more, each with its
outcome, telling how far it is and stopping when told to."""

from __future__ import annotations

import os
import time

from phylax.agent.guard import Guard
from phylax.agent.letting_go import Way, why_left
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.outcomes import Outcomes
from phylax.agent.places import Place
from phylax.agent.seen import Seen
from phylax.agent.surveyor import Stopped, Watcher
from phylax.agent.weighing import Weighing
from phylax.core.retention import Reason

REFRESH = 5.0
"""Seconds after which it is looked anew what is open on the machine."""
_TELL_AT, _TELL_AFTER = 50, 0.02
"""Items and seconds after which it is told how far the work is, whichever comes first."""


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


Going = tuple[str, int, os.stat_result]
"""A file that is to go: its name, the bytes it counts, as it was seen."""


class Hand:
    """Lets the things of one category go."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        weighing: Weighing,
        way: Way,
        outcomes: Outcomes,
        open_now: OpenNow,
        watch: Watcher,
    ) -> None:
        self.machine = machine
        self.weighing = weighing
        self.outcomes = outcomes
        self.kind = weighing.kind
        self._guard = guard
        self._way = way
        self._open_now = open_now
        self._watch = watch
        self._untold = [0, 0]
        self._told = time.monotonic()
        self._links: dict[tuple[int, int], int] = {}

    def refresh(self) -> InUse:
        """Look again at what is open, where that was some seconds ago."""
        self.weighing.in_use = found = self._open_now.found()
        return found

    # --- files -------------------------------------------------------------------------------

    def files(self, place: Place, folder: str, handle: int, going: list[Going]) -> int:
        """Let files of one open folder go; how many went. Raises Stopped when told to stop."""
        went = 0
        judged_by = self.weighing.in_use
        for start in range(0, len(going), self._way.at_once):
            batch = going[start : start + self._way.at_once]
            if (now := self.refresh()) is not judged_by:
                batch = [one for one in batch if not self._left_as_open(place, folder, one, now)]
            if batch:
                went += self._let_go(place, folder, handle, batch)
        self.tell()
        return went

    def _left_as_open(self, place: Place, folder: str, one: Going, now: InUse) -> bool:
        name, size, found = one
        if not now.holds(found):
            return False
        self.leave(place, folder, name, size, Reason.IN_USE)
        return True

    def _let_go(self, place: Place, folder: str, handle: int, batch: list[Going]) -> int:
        # some hundred thousand files come through here: what can be said once is said once
        way, let_go, now = self._way, self._way.file, time.monotonic
        names = [
            (name, size if found.st_nlink < 2 else self._counts(size, found))
            for name, size, found in batch
        ]
        try:
            way.announce(place, folder, names)
        except OSError as error:
            # not noted, not touched
            for name, size, _ in batch:
                self.leave(place, folder, name, size, *why_left(error))
            return 0
        went = went_size = told = told_size = 0
        tell_at = now() + _TELL_AFTER
        try:
            for index, (name, counted) in enumerate(names):
                try:
                    let_go(index, name, handle)
                except OSError as error:
                    self.leave(place, folder, name, batch[index][1], *why_left(error))
                    continue
                went += 1
                went_size += counted
                if went - told >= _TELL_AT or now() > tell_at:
                    self._count(went - told, went_size - told_size)
                    told, told_size, tell_at = went, went_size, now() + _TELL_AFTER
        finally:
            way.went(went, went_size)
            way.done()
        self._count(went - told, went_size - told_size)
        return went

    def _counts(self, size: int, found: os.stat_result) -> int:
        """The bytes that come free with a name: none while the file has other names."""
        seal = (found.st_dev, found.st_ino)
        names = self._links[seal] = self._links.get(seal, 0) + 1
        if names < found.st_nlink:
            self.outcomes.link_went(self.kind.key, 1, size if names == 1 else 0)
            return 0
        self.outcomes.link_went(self.kind.key, 1 - names, -size)
        return size

    # --- items -------------------------------------------------------------------------------

    def item(self, place: Place, seen: Seen) -> None:
        """Let one item go that is no plain file. Raises Stopped when told to stop."""
        why: tuple[Reason, str] | None = None
        try:
            why = self._why_forbidden(place, seen)
            if why is None and (whys := self._way.item(place, seen, self.tell)):
                why = Reason.FAILED, "; ".join(whys[:3])
        except OSError as error:
            why = why_left(error)
        except Stopped:
            self.leave(place, "", seen.path, seen.size, Reason.CALLED_OFF, "part of it may be gone")
            self._way.done()
            raise
        if why is not None:
            self.leave(place, "", seen.path, seen.size, *why)
        else:
            self._way.went(1, seen.size)
        self._way.done()
        self._count(1, seen.size)

    def _why_forbidden(self, place: Place, seen: Seen) -> tuple[Reason, str] | None:
        if self.kind.shape != "folders":
            return None
        forbidden = self._guard.why_forbidden(os.path.join(place.path, seen.path))
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
