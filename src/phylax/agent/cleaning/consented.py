"""What a person agreed to: exactly these items go, each only if it is still the one agreed to.

A seal without a change time comes from an agent of an earlier version: nothing fits it any more.
"""

from __future__ import annotations

import stat
from collections.abc import Iterable

from phylax.agent import files
from phylax.agent.cleaning.disposal import Going
from phylax.agent.cleaning.remover import CAN_GO, Remover
from phylax.agent.config.guard import is_plain_path
from phylax.agent.survey.candidates import handle_on
from phylax.agent.survey.item import Candidate
from phylax.agent.survey.locks import open_programs
from phylax.agent.survey.places import Place
from phylax.core.retention import Reason
from phylax.core.survey import Item, Seal, unspell
from phylax.core.survey.file_stat import FileStat


class ConsentedItems:
    """Lets the items of one agreed listing go."""

    def __init__(self, remover: Remover) -> None:
        self._remover = remover
        self.again: list[Item] = []
        """What was left only because it, or its program, was open."""
        self._own_deeds: dict[tuple[int, int], tuple[int, Seal]] = {}

    def clean(self, places: list[Place], items: Iterable[Item]) -> None:
        """Raises Stopped when told to stop."""
        kind = self._remover.kind
        by_shown = {place.shown: place for place in places}
        present: dict[str, dict[str, Candidate]] = {}
        for item in items:
            place = by_shown.get(item.place)
            path = unspell(item)
            if place is None or (kind.shape == "files" and not is_plain_path(path)):
                # not one of this machine's own places: nothing a listing of ours could name
                self._remover.outcomes.leave(
                    kind.key, item.place, path, item.size, Reason.FORBIDDEN, "outside its place"
                )
            elif self._remover.clock_moved:
                self._leave(place, item, path, Reason.CLOCK)
            elif self._is_protected(place, path):
                self._leave(place, item, path, Reason.PROTECTED)
            elif kind.shape == "files":
                self._file(place, item, path)
            else:
                if place.shown not in present:
                    present[place.shown] = self._present(place)
                self._item(place, item, present[place.shown].get(path))

    def _leave(self, place: Place, item: Item, path: str, reason: Reason, detail: str = "") -> None:
        if reason in (Reason.IN_USE, Reason.PROGRAM_OPEN):
            self.again.append(item)
        self._remover.leave(place, "", path, item.size, reason, detail)

    def _present(self, place: Place) -> dict[str, Candidate]:
        """What lies in a place now, by name; of one that has vanished, nothing."""
        try:
            return {
                candidate.path: candidate
                for candidate in self._remover.candidates.items(place, _not_now)
            }
        except OSError:
            self._remover.outcomes.could_not_read(self._remover.kind.key)
            return {}

    def _is_protected(self, place: Place, path: str) -> bool:
        """Whether the protect list keeps a file by now; other items know it of themselves."""
        return self._remover.kind.shape == "files" and self._remover.candidates.is_protected(
            place, path
        )

    def _item(self, place: Place, item: Item, candidate: Candidate | None) -> None:
        if candidate is None:
            self._leave(place, item, item.path, Reason.GONE)
            return
        in_use = self._remover.refresh()
        if candidate.protected:
            self._leave(place, item, candidate.path, Reason.PROTECTED)
        elif candidate.foreign:
            self._leave(place, item, candidate.path, Reason.FOREIGN)
        elif candidate.unseen:
            self._leave(place, item, candidate.path, Reason.NO_RIGHT, candidate.unseen)
        elif candidate.seal != item.seal:
            self._leave(place, item, candidate.path, Reason.CHANGED)
        elif open_programs(place, in_use):
            self._leave(place, item, candidate.path, Reason.PROGRAM_OPEN)
        elif not candidate.insides.isdisjoint(in_use.files):
            self._leave(place, item, candidate.path, Reason.IN_USE)
        else:
            self._remover.item(place, candidate)

    def _file(self, place: Place, item: Item, path: str) -> None:
        *folders, name = path.split("/")
        try:
            handle = handle_on(place, folders)
        except OSError as error:
            why = Reason.GONE if isinstance(error, FileNotFoundError) else Reason.CHANGED
            self._leave(place, item, path, why)
            return
        try:
            try:
                st = files.look(name, handle)
            except FileNotFoundError:
                self._leave(place, item, path, Reason.GONE)
                return
            except OSError:
                self._leave(place, item, path, Reason.NO_RIGHT)
                return
            seal = self._renewed(st) or Seal(
                device=st.st_dev,
                file=st.st_ino,
                size=st.st_size,
                modified_ns=st.st_mtime_ns,
                changed_ns=st.st_ctime_ns,
            )
            if place.is_foreign(st):
                self._leave(place, item, path, Reason.FOREIGN)
            elif seal != item.seal or stat.S_IFMT(st.st_mode) not in CAN_GO:
                self._leave(place, item, path, Reason.CHANGED)
            elif self._remover.refresh().holds(st):
                self._leave(place, item, path, Reason.IN_USE)
            elif open_programs(place, self._remover.candidates.in_use):
                self._leave(place, item, path, Reason.PROGRAM_OPEN)
            else:
                going = Going(name, item.size, st)
                if self._remover.let_go(place, "/".join(folders), handle, [going]):
                    self._note_own_deed(st, item.seal)
        finally:
            files.close(handle)

    # removing one name of a file moves the change time of its other names: that was our own doing

    def _note_own_deed(self, went: FileStat, seal: Seal) -> None:
        if went.st_nlink > 1:
            self._own_deeds[went.st_dev, went.st_ino] = (went.st_mtime_ns, seal)

    def _renewed(self, st: FileStat) -> Seal | None:
        """The seal of a file of which we removed another name just now, where nothing but its
        change time differs."""
        modified, seal = self._own_deeds.get((st.st_dev, st.st_ino), (None, None))
        return seal if modified == st.st_mtime_ns else None


def _not_now(path: str, why: str) -> None:
    """What cannot be read is said in the look that follows."""
