"""What a person agreed to: exactly these items go, each only if it is still the one agreed to.

A seal without a change time comes from an agent of an earlier version: nothing fits it any more.
"""

from __future__ import annotations

import stat
from collections.abc import Iterable, Iterator
from itertools import groupby

from phylax.agent import files
from phylax.agent.cleaning.disposal import Going
from phylax.agent.cleaning.remover import CAN_GO, Remover
from phylax.agent.config.guard import is_plain_path
from phylax.agent.survey.candidates import handle_on
from phylax.agent.survey.item import Candidate
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place
from phylax.core.retention import Reason
from phylax.core.survey import FileIdentity, Item, unspell
from phylax.core.survey.file_stat import FileStat

_BYTES_AT_ONCE = 2**30
"""To remove large files takes a while, and between two portions the work can be called off."""


class ConsentedItems:
    """Lets the items of one agreed listing go."""

    def __init__(self, remover: Remover) -> None:
        self._remover = remover
        self.again: list[Item] = []
        """What was left only because it, or its program, was open."""
        self._present: dict[str, dict[str, Candidate]] = {}
        """By place: what lies in it, by name."""
        self._own_deeds: dict[tuple[int, int], tuple[int, FileIdentity]] = {}

    def clean(self, places: list[Place], items: Iterable[Item]) -> None:
        """Raises Stopped when told to stop."""
        by_shown = {place.shown: place for place in places}
        what_goes = self._files if self._remover.kind.shape == "files" else self._items
        for shown, listed in groupby(items, key=lambda item: item.place):
            if place := by_shown.get(shown):
                what_goes(place, listed)
                continue
            for item in listed:
                self._outside(item)

    def _outside(self, item: Item) -> None:
        """Not one of this machine's own places: nothing a listing of ours could name."""
        self._remover.outcomes.leave(
            self._remover.kind.key,
            item.place,
            unspell(item),
            item.size,
            Reason.FORBIDDEN,
            "outside its place",
        )

    def _leave(self, place: Place, item: Item, path: str, reason: Reason, detail: str = "") -> None:
        if reason in (Reason.IN_USE, Reason.PROGRAM_OPEN):
            self.again.append(item)
        self._remover.leave(place, "", path, item.size, reason, detail)

    # --- items -------------------------------------------------------------------------------

    def _items(self, place: Place, items: Iterable[Item]) -> None:
        if place.shown not in self._present:
            self._present[place.shown] = self._look(place)
        present = self._present[place.shown]
        agreed: dict[str, Item] = {}

        def candidates() -> Iterator[Candidate]:
            for item in items:
                path = unspell(item)
                if self._remover.clock_moved:
                    self._leave(place, item, path, Reason.CLOCK)
                elif (candidate := present.get(path)) is None:
                    self._leave(place, item, path, Reason.GONE)
                else:
                    agreed[path] = item
                    yield candidate

        self._remover.items(
            place,
            candidates(),
            lambda candidate: self._item_stays(place, agreed[candidate.path], candidate),
        )

    def _look(self, place: Place) -> dict[str, Candidate]:
        """What lies in a place now, by name; of one that has vanished, nothing."""
        try:
            return {
                candidate.path: candidate
                for candidate in self._remover.candidates.items(place, _not_now)
            }
        except OSError:
            self._remover.outcomes.could_not_read(self._remover.kind.key)
            return {}

    def _item_stays(self, place: Place, item: Item, candidate: Candidate) -> bool:
        """Whether an item stays after all; then that is told."""
        in_use, reason, detail = self._remover.refresh(), None, ""
        if self._remover.clock_moved:
            reason = Reason.CLOCK
        elif candidate.protected:
            reason = Reason.PROTECTED
        elif candidate.foreign:
            reason = Reason.FOREIGN
        elif candidate.unseen:
            reason, detail = Reason.NO_RIGHT, candidate.unseen
        elif candidate.seal != item.seal:
            reason = Reason.CHANGED
        elif open_programs(place, in_use):
            reason = Reason.PROGRAM_OPEN
        elif not candidate.insides.isdisjoint(in_use.files):
            reason = Reason.IN_USE
        if reason is not None:
            self._leave(place, item, candidate.path, reason, detail)
        return reason is not None

    # --- files -------------------------------------------------------------------------------

    def _files(self, place: Place, items: Iterable[Item]) -> None:
        """Those of a folder go together, wherever in the listing they stand."""
        folders: dict[str, list[tuple[Item, str]]] = {}
        for item in items:
            if is_plain_path(path := unspell(item)):
                folder, _, name = path.rpartition("/")
                folders.setdefault(folder, []).append((item, name))
            else:
                self._outside(item)
        for folder, listed in folders.items():
            try:
                handle = handle_on(place, folder.split("/") if folder else [])
            except OSError as error:
                why = Reason.GONE if isinstance(error, FileNotFoundError) else Reason.CHANGED
                for item, _ in listed:
                    self._leave(place, item, unspell(item), why)
                continue
            try:
                self._neighbours(place, folder, handle, listed)
            finally:
                files.close(handle)

    def _neighbours(
        self, place: Place, folder: str, handle: int, listed: Iterable[tuple[Item, str]]
    ) -> None:
        """Let agreed files of one open folder go, as many at once as are noted at once."""
        going: list[Going] = []
        size = 0

        def let_go() -> None:
            nonlocal size
            if going:
                self._remover.let_go(place, folder, handle, going)
                going.clear()
            size = 0

        for item, name in listed:
            of = self._judged(place, item, name, handle)
            if of is None:
                continue
            if of.st_nlink == 1:
                going.append(Going(name, item.size, of))
                size += item.size
                if len(going) == self._remover.way.at_once or size > _BYTES_AT_ONCE:
                    let_go()
                continue
            # its other names are known anew by it: each on its own
            let_go()
            if self._remover.let_go(place, folder, handle, [Going(name, item.size, of)]):
                self._own_deeds[of.st_dev, of.st_ino] = (of.st_mtime_ns, item.seal)
        let_go()

    def _judged(self, place: Place, item: Item, name: str, handle: int) -> FileStat | None:
        """What an agreed file is, where it may go; None where it stays, and that is told."""
        path = unspell(item)
        if self._remover.clock_moved:
            self._leave(place, item, path, Reason.CLOCK)
            return None
        if self._remover.candidates.is_protected(place, path):
            self._leave(place, item, path, Reason.PROTECTED)
            return None
        try:
            of = files.look(name, handle)
        except FileNotFoundError:
            self._leave(place, item, path, Reason.GONE)
            return None
        except OSError:
            self._leave(place, item, path, Reason.NO_RIGHT)
            return None
        if (why := self._why_stays(place, item, of)) is not None:
            self._leave(place, item, path, why)
            return None
        return of

    def _why_stays(self, place: Place, item: Item, of: FileStat) -> Reason | None:
        """Why an agreed file stays after all, by what it is now."""
        seal = self._renewed(of) or FileIdentity(
            device=of.st_dev,
            file=of.st_ino,
            size=of.st_size,
            modified_ns=of.st_mtime_ns,
            changed_ns=of.st_ctime_ns,
        )
        if place.is_foreign(of):
            return Reason.FOREIGN
        if seal != item.seal or stat.S_IFMT(of.st_mode) not in CAN_GO:
            return Reason.CHANGED
        if self._remover.refresh().holds(of):
            return Reason.IN_USE
        if open_programs(place, self._remover.candidates.in_use):
            return Reason.PROGRAM_OPEN
        return None

    # removing one name of a file moves the change time of its other names: that was our own doing

    def _renewed(self, st: FileStat) -> FileIdentity | None:
        """The seal of a file of which we removed another name just now, where nothing but its
        change time differs."""
        modified, seal = self._own_deeds.get((st.st_dev, st.st_ino), (None, None))
        return seal if modified == st.st_mtime_ns else None


def _not_now(path: str, why: str) -> None:
    """What cannot be read is said in the survey that follows."""
