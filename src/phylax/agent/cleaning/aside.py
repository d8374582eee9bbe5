"""What is moved aside, looked at where nobody else moves names, and goes at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from datetime import timedelta

from phylax.agent import files
from phylax.agent.account.reasons import NoRoomError, why_left
from phylax.agent.cleaning.disposal import (
    LEFT_ASIDE,
    Breath,
    Going,
    HeldStatus,
    IntoHold,
    Left,
    is_same,
    partly,
)
from phylax.agent.files.walk import remove_tree
from phylax.agent.hold.batch import Companion, Holding
from phylax.agent.survey.item import Candidate, Measure, weigh
from phylax.agent.survey.places import Place, deeper
from phylax.agent.survey.trash import companion_of
from phylax.core.retention import Reason


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

    _is_aside = True

    def _held_for(self) -> tuple[timedelta, int]:
        return LEFT_ASIDE, 0

    def announce(
        self, place: Place, folder: str, names: Sequence[str], going: Sequence[Going] = ()
    ) -> None:
        self._announce(place, folder, [Holding(entry.name, entry.size) for entry in going])

    def _announce(self, place: Place, folder: str, going: Sequence[Holding]) -> None:
        self._in_place = False
        try:
            super()._announce(place, folder, going)
        except NoRoomError:
            # the usual case of this job: a volume with not a byte left
            self._in_place = True
        self._tell_journal(place, folder, going)

    def _announce_item(self, place: Place, candidate: Candidate) -> Holding:
        is_prepared = (place.shown, candidate.path) in self._prepared
        holding = super()._announce_item(place, candidate)
        if is_prepared:
            self._tell_journal(place, self._below, [holding])
        return holding

    def _tell_journal(self, place: Place, folder: str, going: Sequence[Holding]) -> None:
        note = going[0].companion if self._in_place and going else None
        sized = [(holding.name, holding.size) for holding in going]
        self._journal.about_to(self._kind.key, place, folder, sized, note)

    def let_go(self, going: Sequence[Going], parent: int) -> Iterator[HeldStatus]:
        if not self._in_place:
            yield from super().let_go(going, parent)
            return
        for index, file in enumerate(going):
            try:
                of = files.look(file.name, parent)
                if not is_same(of, file.of) or of.st_ctime_ns != file.of.st_ctime_ns:
                    yield index, (Reason.CHANGED, "")
                    continue
                files.unlink(file.name, parent)
            except OSError as error:
                yield index, why_left(error)
                continue
            yield index, None

    def _settle(
        self, going: Sequence[Going], taken: Sequence[int], parent: int
    ) -> Iterator[HeldStatus]:
        """What was taken, is what it was and is open nowhere else goes."""
        assert self._batch is not None
        first, part = self._first, self._batch.part(self._first)
        look, unlink = files.open_looker(part), files.unlinker(part)
        for index in taken:
            file, number = going[index], first + index
            name, why = str(number), None
            try:
                of, is_open = look(name)
                if not is_same(of, file.of):
                    why = self._undo(number, file.name, parent)
                elif is_open:
                    self._back(number)
                    why = Reason.IN_USE, ""
                else:
                    unlink(name)
            except FileNotFoundError:
                why = Reason.GONE, ""
            except OSError as error:
                self._back(number)
                why = why_left(error)
            yield index, why

    def item(
        self, place: Place, candidate: Candidate, measure: Measure, breathe: Breath
    ) -> Left | None:
        self._in_place = False
        try:
            return super().item(place, candidate, measure, breathe)
        except _InPlaceError:
            return self._item_in_place(place, candidate, measure, breathe)

    def _item_in_place(
        self, place: Place, candidate: Candidate, measure: Measure, breathe: Breath
    ) -> Left | None:
        whys: list[str] = []
        parent = deeper(place.open(), [self._below] if self._below else [])
        try:
            now = weigh(candidate.path, parent, measure, lambda path, why: None)
            if (
                now is None
                or not now.same_contents(candidate)
                or now.changed_ns != candidate.changed_ns
            ):
                return Left(Reason.CHANGED if now else Reason.GONE, "")
            removed = remove_tree(
                candidate.path, parent, lambda path, why: whys.append(why), breathe,
                allocated=measure.allocated,
            )  # fmt: skip
        finally:
            files.close(parent)
        if not removed.whole:
            return partly(whys, removed.size, candidate.size)
        note = companion_of(self._layout, candidate.path) if self._kind.shape == "trash" else None
        if note is not None:
            with suppress(FileNotFoundError):
                beside = deeper(place.open(), note[0])
                try:
                    files.unlink(note[1], beside)
                finally:
                    files.close(beside)
        return None

    def _take_item(self, candidate: Candidate, parent: int) -> None:
        if self._in_place:
            raise _InPlaceError
        super()._take_item(candidate, parent)

    def _back(self, number: int) -> None:
        """What does not go after all lies where it lay again, or is held where it cannot."""
        assert self._batch is not None
        for entry in self._batch.announced([number]):
            with suppress(OSError):
                self._batch.put_back(entry, beside=False)

    def _end_item(
        self,
        candidate: Candidate,
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
        return partly(whys, removed.size, candidate.size)

    def went(self, count: int, size: int) -> None:
        self._journal.removed(self._kind.key, size, count)

    def done(self) -> None:
        self._journal.batch_done()


class _InPlaceError(Exception):
    """There is no room to move an item aside."""
