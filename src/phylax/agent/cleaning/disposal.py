"""The ways in which things go: for good, moved aside first, or into the hold for some days.

All are told beforehand what is about to go, so that whoever takes up a run that was cut off knows
how far it came. What is no plain cache or temporary file is moved into the hold's folder, where
nobody else moves names, looked at there, and only then removed or put back: a program that saves
over a name in the very moment loses nothing.
"""

from __future__ import annotations

import errno
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from typing import NamedTuple, Protocol

from phylax.agent import files
from phylax.agent.account.reasons import NoRoomError, why_left
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.hold.batch import Batch, BatchHead, Companion, Holding
from phylax.agent.hold.hold import Hold
from phylax.agent.machines import MachineKind
from phylax.agent.platform.reserve import FULL
from phylax.agent.survey.item import Candidate, Measure
from phylax.agent.survey.places import Place, deeper
from phylax.agent.survey.trash import companion_of, thing_folder
from phylax.core.catalogue import Category
from phylax.core.retention import Reason, RuleInForce
from phylax.core.survey.file_stat import FileStat

Breath = Callable[[], None]
LEFT_ASIDE = timedelta(days=30)
"""How long something waits in the hold that was moved aside and could not be put back."""


class Going(NamedTuple):
    """A file that is to go: its name, the bytes it counts, what it was when it was judged."""

    name: str
    size: int
    of: FileStat


class Left(NamedTuple):
    """Why not all of an item went, and the bytes of it that did."""

    reason: Reason
    detail: str
    size: int = 0


HeldStatus = tuple[int, tuple[Reason, str] | None]
"""By its index, what became of a file: None, or why it stays after all."""


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

    def let_go(self, going: Sequence[Going], parent: int) -> Iterator[HeldStatus]:
        """Let the announced files of one folder go; what became of each."""
        ...

    def prepare(self, place: Place, candidates: Sequence[Candidate]) -> None:
        """These items are let go one after another now, `at_once` of them at most: what can be
        noted of all of them at once is."""
        ...

    def item(
        self, place: Place, candidate: Candidate, measure: Measure, breathe: Breath
    ) -> Left | None:
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

    at_once = 250

    def __init__(self, machine: MachineKind, journal: RunJournal, kind: Category) -> None:
        self._machine = machine
        self._journal = journal
        self._kind = kind

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        self._journal.about_to(self._kind.key, place, folder, [(name, None) for name in names])

    def let_go(self, going: Sequence[Going], parent: int) -> Iterator[HeldStatus]:
        raise NotImplementedError("files that go for good are looked at and removed in one breath")

    def prepare(self, place: Place, candidates: Sequence[Candidate]) -> None:
        """The journal takes them one by one: it waits for no disk."""

    def item(
        self, place: Place, candidate: Candidate, measure: Measure, breathe: Breath
    ) -> Left | None:
        self._journal.about_to(self._kind.key, place, "", [(candidate.path, candidate.size)])
        if self._kind.shape == "things":
            assert place.source is not None
            self._machine.let_go(place.source, candidate.path, breathe)
            return None
        from phylax.agent.survey.web_stores import stores_in

        went = [
            store.forget(
                candidate.path, last_used=candidate.aged_from, newest_ns=candidate.modified_ns
            )
            for store in stores_in(place, self._kind.shape)
        ]
        return None if all(went) else Left(Reason.CHANGED, "it was visited since")

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
        self._first = 0
        self._room = 0
        self._prepared: dict[tuple[str, str], int] = {}
        """By place and name: the number under which an item is noted already."""

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        self._announce(place, folder, [Holding(entry.name, entry.size) for entry in going])

    def _announce(self, place: Place, folder: str, going: Sequence[Holding]) -> None:
        below = folder.split("/") if folder else []
        with _full_is_no_room():
            batch = self._batches.get(place.mount) or self._begin(place)
            self._room = self._room_on(place)
            self._first = self._hold.with_room(lambda: batch.announce(place, below, going))
        self._batch = batch

    def prepare(self, place: Place, candidates: Sequence[Candidate]) -> None:
        """One wait for the disk for all of them. Where that fails, each is on its own."""
        self._prepared.clear()
        if len(candidates) < 2:
            return
        going = [self._holding(place, candidate) for candidate in candidates]
        with suppress(OSError):
            IntoHold._announce(self, place, self._below, going)
            self._prepared = {
                (place.shown, candidate.path): self._first + index
                for index, candidate in enumerate(candidates)
            }

    @property
    def _below(self) -> str:
        """Below a place, where its items lie."""
        return thing_folder(self._layout) if self._kind.shape == "trash" else ""

    def _holding(self, place: Place, candidate: Candidate) -> Holding:
        companion = None
        if self._kind.shape == "trash" and (note_of := companion_of(self._layout, candidate.path)):
            companion = Companion((*place.below, *note_of[0]), note_of[1])
        return Holding(candidate.path, candidate.size, companion)

    def _announce_item(self, place: Place, candidate: Candidate) -> Holding:
        """Note an item that goes now, unless that was done with others'."""
        holding = self._holding(place, candidate)
        number = self._prepared.pop((place.shown, candidate.path), None)
        if number is None:
            self._announce(place, self._below, [holding])
        else:
            self._first, self._batch = number, self._batches[place.mount]
        return holding

    def _room_on(self, place: Place) -> int:
        return self._hold.room(place)

    def _begin(self, place: Place) -> Batch:
        span, yields = self._held_for()
        head = BatchHead(
            run_id=self._run_id,
            run=self._journal.identity,
            category=self._kind.key,
            mount=place.mount,
            held_at=self._now,
            until_at=self._now + span,
            yields_below=yields,
            aside=self._is_aside,
        )
        batch = self._batches[place.mount] = self._hold.begin(head, place)
        return batch

    _is_aside = False

    def _held_for(self) -> tuple[timedelta, int]:
        """How long, and at how many per cent free it goes before its time."""
        return self._kind.held_for(self._rule), self._rule.hold_yields_below

    def let_go(self, going: Sequence[Going], parent: int) -> Iterator[HeldStatus]:
        """All are taken; then each is looked at once more where it lies now: what is another one
        than was judged is put back, or stays held where its name is taken again."""
        assert self._batch is not None
        batch, first = self._batch, self._first
        move = files.mover(parent, batch.part(first))
        taken: list[int] = []
        for index, file in enumerate(going):
            if file.size > self._room:
                yield index, (Reason.NO_ROOM, _TOO_MUCH)
                continue
            try:
                move(file.name, str(first + index))
            except OSError as error:
                yield index, why_left(_no_room_where_full(error))
                continue
            self._room -= file.size
            taken.append(index)
        yield from self._settle(going, taken, parent)

    def _settle(
        self, going: Sequence[Going], taken: Sequence[int], parent: int
    ) -> Iterator[HeldStatus]:
        """What was taken and is what it was waits here."""
        assert self._batch is not None
        first = self._first
        look = files.looker(self._batch.part(first))
        for index in taken:
            file = going[index]
            try:
                unchanged = is_same(look(str(first + index)), file.of)
            except FileNotFoundError:
                yield index, (Reason.GONE, "")
                continue
            yield index, None if unchanged else self._undo(first + index, file.name, parent)

    def _take_item(self, candidate: Candidate, parent: int) -> None:
        assert self._batch is not None
        if candidate.size > self._room:
            raise NoRoomError(errno.EDQUOT, _TOO_MUCH)
        with _full_is_no_room():
            self._batch.take(self._first, candidate.path, parent)
        self._room -= candidate.size

    def _undo(self, number: int, name: str, parent: int) -> tuple[Reason, str]:
        assert self._batch is not None
        try:
            self._batch.undo(number, name, parent)
        except OSError:
            if of := self._batch.look(number):
                self._hold.took(self._batch, 1, of.st_size)
            return Reason.CHANGED, "it is held: its name was taken again in the very moment"
        return Reason.CHANGED, ""

    def item(
        self, place: Place, candidate: Candidate, measure: Measure, breathe: Breath
    ) -> Left | None:
        companion = self._announce_item(place, candidate).companion
        assert self._batch is not None
        parent = deeper(place.open(), [self._below] if self._below else [])
        try:
            self._take_item(candidate, parent)
            now = self._batch.weigh(self._first, measure, breathe)
            if now is None:
                return Left(Reason.GONE, "")
            if not now.same_contents(candidate):
                return Left(*self._undo(self._first, candidate.path, parent))
            if companion is not None:
                # a thing without a note, or whose note cannot be moved, is moved all the same
                with suppress(OSError):
                    note = deeper(files.open_top(place.root), companion.folders)
                    try:
                        self._batch.take_companion(self._first, companion.name, note)
                    finally:
                        files.close(note)
            return self._end_item(candidate, parent, companion, place, measure, breathe)
        finally:
            files.close(parent)

    def _end_item(
        self,
        candidate: Candidate,
        parent: int,
        companion: Companion | None,
        place: Place,
        measure: Measure,
        breathe: Breath,
    ) -> Left | None:
        return None

    def went(self, count: int, size: int) -> None:
        assert self._batch is not None or not count
        if self._batch is not None:
            self._hold.took(self._batch, count, size)

    def done(self) -> None:
        """The manifest was written beforehand; nothing is left to note."""

    def close(self) -> None:
        for batch in self._batches.values():
            if batch.head.aside and batch.is_empty:
                batch.sweep_up()
            batch.close()
        self._batches.clear()


def partly(whys: Sequence[str], went: int, size: int) -> Left:
    """Not all of an item went."""
    return Left(Reason.FAILED, "; ".join(whys[:3]) or "not all of it went", min(went, size))


def is_same(now: FileStat, judged: FileStat) -> bool:
    """Whether a file is the one that was judged, unchanged; a move of our own changed its change
    time."""
    # mode, file number, device; then owner, length
    return (
        now[:3] == judged[:3]
        and now[4] == judged[4]
        and now[6] == judged[6]
        and now.st_mtime_ns == judged.st_mtime_ns
    )


_TOO_MUCH = "no more of the volume may be held; see the machine's guard.toml"


def _no_room_where_full(error: OSError) -> OSError:
    if error.errno in FULL and not isinstance(error, NoRoomError):
        return NoRoomError(error.errno, "the volume has no room to hold it")
    return error


@contextmanager
def _full_is_no_room() -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise _no_room_where_full(error) from error
