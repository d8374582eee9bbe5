"""The ways in which things go: for good, moved aside first, or into the hold for some days.

All are told beforehand what is about to go, so that whoever takes up a run that was cut off knows
how far it came. What is no plain cache or temporary file is moved into the hold's folder, where
nobody else moves names, looked at there, and only then removed or put back: a program that saves
over a name in the very moment loses nothing.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from typing import NamedTuple, Protocol

from phylax.agent import files
from phylax.agent.batch import Batch, Companion, Holding
from phylax.agent.hold import Hold
from phylax.agent.journal import RunJournal
from phylax.agent.machines import MachineKind
from phylax.agent.places import Place, deeper
from phylax.agent.reserve import FULL
from phylax.agent.seen import Measure, Seen, weigh
from phylax.agent.trash import companion_of, thing_folder
from phylax.agent.walk import remove_tree
from phylax.agent.webstores import stores_in
from phylax.core.catalogue import Category
from phylax.core.retention import Reason, RuleInForce

Breath = Callable[[], None]
LEFT_ASIDE = timedelta(days=30)
"""How long something waits in the hold that was moved aside and could not be put back."""


class Going(NamedTuple):
    """A file that is to go: its name, the bytes it counts, what it was when it was judged."""

    name: str
    size: int
    of: os.stat_result


class Left(NamedTuple):
    """Why not all of an item went, and the bytes of it that did."""

    reason: Reason
    detail: str
    size: int = 0


class Way(Protocol):
    """How the things of one category go."""

    at_once: int
    """So many names are announced at once."""

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        """Of these names of one folder some are about to go; `going` says what is known of them.
        OSError where that cannot be noted; then none of them may go."""
        ...

    def take(self, index: int, going: Going, parent: int) -> None:
        """Take the announced file with this index. OSError where that fails."""
        ...

    def settle(
        self, place: Place, folder: str, parent: int
    ) -> Iterator[tuple[int, tuple[Reason, str] | None]]:
        """What became of each that was taken: None, or why it stays after all."""
        ...

    def item(self, place: Place, seen: Seen, measure: Measure, breathe: Breath) -> Left | None:
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
    """Gone at once: what is made again by itself, and what is no file. The run's journal knows what
    went."""

    at_once = 100

    def __init__(self, machine: MachineKind, journal: RunJournal, kind: Category) -> None:
        self._machine = machine
        self._journal = journal
        self._kind = kind

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        self._journal.about_to(self._kind.key, place, folder, [(name, None) for name in names])

    def take(self, index: int, going: Going, parent: int) -> None:
        raise NotImplementedError("files that go for good are looked at and removed in one breath")

    def settle(
        self, place: Place, folder: str, parent: int
    ) -> Iterator[tuple[int, tuple[Reason, str] | None]]:
        return iter(())

    def item(self, place: Place, seen: Seen, measure: Measure, breathe: Breath) -> Left | None:
        self._journal.about_to(self._kind.key, place, "", [(seen.path, seen.size)])
        if self._kind.shape == "things":
            assert place.source is not None
            self._machine.let_go(place.source, seen.path, breathe)
            return None
        for store in stores_in(place, self._kind.shape):
            store.forget([seen.path])
        return None

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
        journal: RunJournal,
        run_id: int,
        kind: Category,
        rule: RuleInForce,
        machine: MachineKind,
        now: datetime,
    ) -> None:
        self._hold = hold
        self._journal = journal
        self._run_id = run_id
        self._kind = kind
        self._rule = rule
        self._machine = machine
        self._layout = machine.trash_layout
        self._now = now
        self._batches: dict[str, Batch] = {}
        self._batch: Batch | None = None
        self._mount = ""
        self._first = 0
        self._going: Sequence[Holding] = ()
        self._taken: dict[int, Going] = {}
        self._room = 0

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        self._announce(place, folder, [Holding(one.name, one.size) for one in going])

    def _announce(self, place: Place, folder: str, going: Sequence[Holding]) -> None:
        below = folder.split("/") if folder else []
        with _full_is_no_room():
            batch = self._batches.get(place.mount) or self._begin(place)
            self._room = self._room_on(place)
            self._first = self._hold.with_room(lambda: batch.announce(place, below, going))
        self._batch, self._mount, self._going = batch, place.mount, going
        self._taken = {}

    def _room_on(self, place: Place) -> int:
        return self._hold.room(place)

    def _begin(self, place: Place) -> Batch:
        batch = self._hold.begin(
            self._run_id,
            self._journal.identity,
            self._kind.key,
            place,
            self._now,
            self._kind.held_for(self._rule),
            self._rule.hold_yields_below,
        )
        self._batches[place.mount] = batch
        return batch

    def take(self, index: int, going: Going, parent: int) -> None:
        self._take(index, going.name, parent)
        self._taken[index] = going

    def _take(self, index: int, name: str, parent: int) -> None:
        assert self._batch is not None
        if self._going[index].size > self._room:
            raise NoRoomError(
                errno.EDQUOT, "no more of the volume may be held; see the machine's guard.toml"
            )
        with _full_is_no_room():
            self._batch.take(self._first + index, name, parent)
        self._room -= self._going[index].size

    def settle(
        self, place: Place, folder: str, parent: int
    ) -> Iterator[tuple[int, tuple[Reason, str] | None]]:
        """Each thing is looked at once more where it lies now: what is another one than was judged
        is put back, or stays held where its name is taken again."""
        assert self._batch is not None
        for index, going in self._taken.items():
            number = self._first + index
            of = self._batch.look(number)
            if of is None:
                yield index, (Reason.GONE, "")
            elif _is_same(of, going.of):
                yield index, self._end(number, of)
            else:
                yield index, self._undo(number, going.name, parent)

    def _end(self, number: int, of: os.stat_result) -> tuple[Reason, str] | None:
        """What was taken and is what it was: here it waits."""
        return None

    def _undo(self, number: int, name: str, parent: int) -> tuple[Reason, str]:
        assert self._batch is not None
        try:
            self._batch.undo(number, name, parent)
        except OSError:
            return Reason.CHANGED, "it is held: its name was taken again in the very moment"
        return Reason.CHANGED, ""

    def item(self, place: Place, seen: Seen, measure: Measure, breathe: Breath) -> Left | None:
        below, companion = "", None
        if self._kind.shape == "trash":
            below = thing_folder(self._layout)
            if note_of := companion_of(self._layout, seen.path):
                companion = Companion((*place.below, *note_of[0]), note_of[1])
        self._announce(place, below, [Holding(seen.path, seen.size, companion)])
        assert self._batch is not None
        parent = deeper(place.open(), below.split("/") if below else [])
        try:
            self._take(0, seen.path, parent)
            now = self._batch.weigh(self._first, measure, breathe)
            if now is None:
                return Left(Reason.GONE, "")
            if not now.same_contents(seen):
                return Left(*self._undo(self._first, seen.path, parent))
            if companion is not None:
                # a thing without a note, or whose note will not come along, goes all the same
                with suppress(OSError):
                    note = deeper(files.open_top(place.root), companion.folders)
                    try:
                        self._batch.take_companion(self._first, companion.name, note)
                    finally:
                        files.close(note)
            return self._end_item(seen, parent, companion, place, measure, breathe)
        finally:
            files.close(parent)

    def _end_item(
        self,
        seen: Seen,
        parent: int,
        companion: Companion | None,
        place: Place,
        measure: Measure,
        breathe: Breath,
    ) -> Left | None:
        return None

    def went(self, count: int, size: int) -> None:
        self._hold.took(self._mount, size)

    def done(self) -> None:
        """The manifest was written beforehand; nothing is left to note."""

    def close(self) -> None:
        for batch in self._batches.values():
            if batch.head.aside and batch.is_empty:
                batch.sweep_up()
            batch.close()
        self._batches.clear()


class Aside(IntoHold):
    """Gone at once, but moved into the hold's folder first and looked at there.

    Whoever takes up a run that was cut off puts back what still lies there, and begins anew.
    """

    at_once = 500
    _in_place = False
    """The volume has no room for a note: what is announced is looked at and removed where it is."""

    def _room_on(self, place: Place) -> int:
        # it takes no room: it goes in a moment
        return 2**62

    def _begin(self, place: Place) -> Batch:
        batch = self._hold.begin(
            self._run_id, self._journal.identity, self._kind.key, place, self._now, LEFT_ASIDE, 0,
            aside=True,
        )  # fmt: skip
        self._batches[place.mount] = batch
        return batch

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        self._announce(place, folder, [Holding(one.name, one.size) for one in going])

    def _announce(self, place: Place, folder: str, going: Sequence[Holding]) -> None:
        self._taken, self._in_place = {}, False
        try:
            super()._announce(place, folder, going)
        except NoRoomError:
            # the usual case of this job: a volume with not a byte left
            self._in_place = True
        note = going[0].companion if self._in_place and going else None
        sized = [(one.name, one.size) for one in going]
        self._journal.about_to(self._kind.key, place, folder, sized, note)

    def take(self, index: int, going: Going, parent: int) -> None:
        if not self._in_place:
            super().take(index, going, parent)
            return
        of = files.look(going.name, parent)
        if not _is_same(of, going.of) or of.st_ctime_ns != going.of.st_ctime_ns:
            raise ChangedError(errno.ESTALE, "changed since", going.name)
        files.unlink(going.name, parent)
        self._taken[index] = going

    def settle(
        self, place: Place, folder: str, parent: int
    ) -> Iterator[tuple[int, tuple[Reason, str] | None]]:
        if self._in_place:
            return ((index, None) for index in self._taken)
        return super().settle(place, folder, parent)

    def item(self, place: Place, seen: Seen, measure: Measure, breathe: Breath) -> Left | None:
        self._in_place = False
        try:
            return super().item(place, seen, measure, breathe)
        except _InPlaceError:
            return self._item_in_place(place, seen, measure, breathe)

    def _item_in_place(
        self, place: Place, seen: Seen, measure: Measure, breathe: Breath
    ) -> Left | None:
        below = thing_folder(self._layout) if self._kind.shape == "trash" else ""
        whys: list[str] = []
        parent = deeper(place.open(), [below] if below else [])
        try:
            now = weigh(seen.path, parent, measure, lambda path, why: None)
            if now is None or not now.same_contents(seen) or now.changed_ns != seen.changed_ns:
                return Left(Reason.CHANGED if now else Reason.GONE, "")
            removed = remove_tree(
                seen.path, parent, lambda path, why: whys.append(why), breathe,
                allocated=measure.allocated,
            )  # fmt: skip
        finally:
            files.close(parent)
        if not removed.whole:
            return _partly(whys, removed.size, seen.size)
        note = companion_of(self._layout, seen.path) if self._kind.shape == "trash" else None
        if note is not None:
            with suppress(FileNotFoundError):
                beside = deeper(place.open(), note[0])
                try:
                    files.unlink(note[1], beside)
                finally:
                    files.close(beside)
        return None

    def _take(self, index: int, name: str, parent: int) -> None:
        if self._in_place:
            raise _InPlaceError
        super()._take(index, name, parent)

    def _end(self, number: int, of: os.stat_result) -> tuple[Reason, str] | None:
        assert self._batch is not None
        if self._batch.is_open_elsewhere(number):
            return self._back_as_open(number)
        try:
            self._batch.unlink(number)
        except OSError as error:
            self._back(number)
            return why_left(error)
        return None

    def _back_as_open(self, number: int) -> tuple[Reason, str]:
        self._back(number)
        return Reason.IN_USE, ""

    def _back(self, number: int) -> None:
        """What does not go after all lies where it lay again, or is held where it cannot."""
        assert self._batch is not None
        for one in self._batch.announced([number]):
            with suppress(OSError):
                self._batch.put_back(one, beside=False)

    def _end_item(
        self,
        seen: Seen,
        parent: int,
        companion: Companion | None,
        place: Place,
        measure: Measure,
        breathe: Breath,
    ) -> Left | None:
        assert self._batch is not None
        whys: list[str] = []
        try:
            removed = self._batch.let_go(
                self._first, lambda path, why: whys.append(why), breathe,
                allocated=measure.allocated,
            )  # fmt: skip
        except BaseException:
            # told to stop in the middle: what is left of it lies where it lay
            self._back(self._first)
            raise
        if removed.whole:
            return None
        self._back(self._first)
        return _partly(whys, removed.size, seen.size)

    def went(self, count: int, size: int) -> None:
        self._journal.removed(self._kind.key, size, count)

    def done(self) -> None:
        self._journal.batch_done()


def _partly(whys: Sequence[str], went: int, size: int) -> Left:
    """Not all of an item went."""
    return Left(Reason.FAILED, "; ".join(whys[:3]) or "not all of it went", min(went, size))


def _is_same(now: os.stat_result, judged: os.stat_result) -> bool:
    """Whether a file is the one that was judged, unchanged; a move of our own changed its change
    time."""
    return (now.st_ino, now.st_dev, now.st_size, now.st_mtime_ns, now.st_mode, now.st_uid) == (
        judged.st_ino, judged.st_dev, judged.st_size, judged.st_mtime_ns, judged.st_mode,
        judged.st_uid,
    )  # fmt: skip


class NoRoomError(OSError):
    """There is no room to hold a thing."""


class ChangedError(OSError):
    """A thing is not what it was when it was judged."""


class _InPlaceError(Exception):
    """There is no room to move an item aside."""


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
    if isinstance(error, ChangedError):
        return Reason.CHANGED, ""
    if error.errno == errno.EROFS:
        return Reason.READ_ONLY, detail
    if files.is_in_use(error):
        return Reason.IN_USE, detail
    if isinstance(error, PermissionError):
        return Reason.NO_RIGHT, detail
    return Reason.FAILED, detail
