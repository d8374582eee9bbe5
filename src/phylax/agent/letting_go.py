"""The two ways in which things go: for good, or into the hold first.

Both are told beforehand what is about to go, so that whoever takes up a run that was cut off knows
how far it came.
"""

from __future__ import annotations

import errno
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import Protocol

from phylax.agent import files
from phylax.agent.batch import Batch, Companion, Holding
from phylax.agent.hold import Hold
from phylax.agent.journal import RunJournal
from phylax.agent.machines import MachineKind
from phylax.agent.places import Place, deeper
from phylax.agent.reserve import FULL
from phylax.agent.seen import Seen
from phylax.agent.trash import companion_of, let_go, thing_folder
from phylax.agent.walk import remove_tree
from phylax.agent.webstores import stores_in
from phylax.core.catalogue import Category
from phylax.core.retention import Reason, RuleInForce

Breath = Callable[[], None]


class Way(Protocol):
    """How the things of one category go."""

    at_once: int
    """So many names are announced at once."""

    def announce(self, place: Place, folder: str, going: Sequence[tuple[str, int]]) -> None:
        """These names (with the bytes they count) of one folder are about to go. OSError where
        that cannot be noted; then none of them may go."""
        ...

    def file(self, index: int, name: str, parent: int) -> None:
        """Let the announced file with this index go. OSError where that fails."""
        ...

    def item(self, place: Place, seen: Seen, breathe: Breath) -> list[str]:
        """Let one item go that is no plain file; why not all of it went. OSError where it could
        not be tried at all."""
        ...

    def went(self, count: int, size: int) -> None:
        """So many of those announced have gone, of so many bytes."""
        ...

    def done(self) -> None:
        """Everything announced has been dealt with."""
        ...


class ForGood:
    """Gone at once. The run's journal knows what went."""

    at_once = 100

    def __init__(self, machine: MachineKind, journal: RunJournal, kind: Category) -> None:
        self._machine = machine
        self._journal = journal
        self._kind = kind

    def announce(self, place: Place, folder: str, going: Sequence[tuple[str, int]]) -> None:
        self._journal.about_to(self._kind.key, place, folder, going)

    def file(self, index: int, name: str, parent: int) -> None:
        files.unlink(name, parent)

    def item(self, place: Place, seen: Seen, breathe: Breath) -> list[str]:
        below, note, layout = "", None, self._machine.trash_layout
        if self._kind.shape == "trash":
            below, note = thing_folder(layout), companion_of(layout, seen.path)
        self._journal.about_to(self._kind.key, place, below, [(seen.path, seen.size)], note)
        whys: list[str] = []

        def complain(path: str, why: str) -> None:
            whys.append(why)

        match self._kind.shape:
            case "things":
                assert place.source is not None
                self._machine.let_go(place.source, seen.path, breathe)
                return []
            case "sites" | "visits":
                for store in stores_in(place, self._kind.shape):
                    store.forget([seen.path])
                return []
        handle = place.open()
        try:
            if self._kind.shape == "trash":
                gone = let_go(handle, layout, seen.path, complain, breathe)
            else:
                gone = remove_tree(seen.path, handle, complain, breathe)
        finally:
            files.close(handle)
        return [] if gone else whys or ["not all of it went"]

    def went(self, count: int, size: int) -> None:
        self._journal.removed(self._kind.key, size, count)

    def done(self) -> None:
        self._journal.batch_done()


class IntoHold:
    """Held for some days first. The hold's own manifest knows what was taken."""

    at_once = 500

    def __init__(
        self,
        hold: Hold,
        run_id: int,
        kind: Category,
        rule: RuleInForce,
        machine: MachineKind,
        now: datetime,
    ) -> None:
        self._hold = hold
        self._run_id = run_id
        self._kind = kind
        self._rule = rule
        self._layout = machine.trash_layout
        self._now = now
        self._batches: dict[str, Batch] = {}
        self._batch: Batch | None = None
        self._mount = ""
        self._first = 0
        self._going: Sequence[Holding] = ()
        self._room = 0

    def announce(self, place: Place, folder: str, going: Sequence[tuple[str, int]]) -> None:
        self._announce(place, folder, [Holding(name, size) for name, size in going])

    def _announce(self, place: Place, folder: str, going: Sequence[Holding]) -> None:
        below = folder.split("/") if folder else []
        with _full_is_no_room():
            batch = self._batches.get(place.mount) or self._begin(place)
            self._room = self._hold.room(place)
            self._first = self._hold.with_room(lambda: batch.announce(place, below, going))
        self._batch, self._mount, self._going = batch, place.mount, going

    def _begin(self, place: Place) -> Batch:
        span, yields = self._kind.held_for(self._rule), self._rule.hold_yields_below
        batch = self._hold.begin(self._run_id, self._kind.key, place, self._now, span, yields)
        self._batches[place.mount] = batch
        return batch

    def file(self, index: int, name: str, parent: int) -> None:
        self._take(index, name, parent)

    def _take(self, index: int, name: str, parent: int) -> None:
        assert self._batch is not None
        if self._going[index].size > self._room:
            raise NoRoomError(
                errno.EDQUOT, "no more of the volume may be held; see the machine's guard.toml"
            )
        with _full_is_no_room():
            self._batch.take(self._first + index, name, parent)
        self._room -= self._going[index].size

    def item(self, place: Place, seen: Seen, breathe: Breath) -> list[str]:
        below, companion = "", None
        if self._kind.shape == "trash":
            below = thing_folder(self._layout)
            if note_of := companion_of(self._layout, seen.path):
                companion = Companion((*place.below, *note_of[0]), note_of[1])
        self._announce(place, below, [Holding(seen.path, seen.size, companion)])
        parent = deeper(place.open(), below.split("/") if below else [])
        try:
            self._take(0, seen.path, parent)
        finally:
            files.close(parent)
        if companion is not None and self._batch is not None:
            note = deeper(files.open_top(place.root), companion.folders)
            try:
                self._batch.take_companion(self._first, companion.name, note)
            finally:
                files.close(note)
        return []

    def went(self, count: int, size: int) -> None:
        self._hold.took(self._mount, size)

    def done(self) -> None:
        """The manifest was written beforehand; nothing is left to note."""

    def close(self) -> None:
        for batch in self._batches.values():
            batch.close()
        self._batches.clear()


class NoRoomError(OSError):
    """There is no room to hold a thing."""


@contextmanager
def _full_is_no_room() -> Iterator[None]:
    try:
        yield
    except OSError as error:
        if error.errno in FULL and not isinstance(error, NoRoomError):
            raise NoRoomError(error.errno, "the volume has no room to hold it") from error
        raise


def why_left(error: OSError) -> tuple[Reason, str]:
    """The reason for which something stayed, by what the system said, and its words."""
    detail = error.strerror or str(error)
    if isinstance(error, NoRoomError):
        return Reason.NO_ROOM, detail
    if isinstance(error, FileNotFoundError):
        return Reason.GONE, ""
    if error.errno == errno.EROFS:
        return Reason.READ_ONLY, detail
    if files.is_in_use(error):
        return Reason.IN_USE, detail
    if isinstance(error, PermissionError):
        return Reason.NO_RIGHT, detail
    return Reason.FAILED, detail
