"""The cleaner: lets go what the rule lets go, decides again on the spot, and says what it left.

A cleaning is a pass over the places of its categories. `safe` categories are judged afresh, file by
file; of an `ask` category exactly the agreed items go, if nothing about them has changed. What is
about to go is written to the run's journal first, so that a cleaning that was cut off knows how far
it came.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from datetime import datetime

from phylax.agent.guard import Guard, is_plain_path, why_not_cleaned
from phylax.agent.journal import RunJournal
from phylax.agent.machines import MachineKind
from phylax.agent.places import Place, open_folder, places
from phylax.agent.surveyor import Watcher, age_of
from phylax.agent.trash import let_go, trashed
from phylax.agent.walk import Folder, walk
from phylax.core.catalogue import Category, category
from phylax.core.counting import spell, unspell
from phylax.core.orders import AgreedListing, CategoryOutcome, LeftItem
from phylax.core.retention import Judge, Reason, RuleInForce
from phylax.core.survey import Item, Stay, Tally, Unread

NAMED = 200
"""So many left items are named, those first that should have gone; all are counted."""


class Outcomes:
    """What became of everything, added up while the cleaner works."""

    def __init__(self) -> None:
        self._left: dict[str, dict[Reason, list[int]]] = {}
        self._unread: dict[str, int] = {}
        self.named: list[LeftItem] = []
        self.problems: list[str] = []

    def leave(
        self, key: str, place: str, path: str, size: int, reason: Reason, detail: str = ""
    ) -> None:
        sums = self._left.setdefault(key, {}).setdefault(reason, [0, 0])
        sums[0] += 1
        sums[1] += size
        if reason.should_have_gone and len(self.named) < NAMED:
            shown, _ = spell(path)
            self.named.append(
                LeftItem(
                    category=key, place=place, path=shown, size=size, reason=reason, detail=detail
                )
            )

    def could_not_read(self, key: str) -> None:
        self._unread[key] = self._unread.get(key, 0) + 1

    def of(self, key: str, removed: Tally) -> CategoryOutcome:
        return CategoryOutcome(
            category=key,
            removed=removed,
            left=tuple(
                Stay(reason=reason, count=count, size=size)
                for reason, (count, size) in self._left.get(key, {}).items()
            ),
            unread_count=self._unread.get(key, 0),
        )


class Cleaner:
    """Cleans one machine once."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        journal: RunJournal,
        now: datetime,
        watch: Watcher,
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._journal = journal
        self._now = now
        self._watch = watch
        self._in_use = machine.in_use()
        self.outcomes = Outcomes()

    def clean(self, key: str, rule: RuleInForce, agreed: Iterable[AgreedListing]) -> None:
        """Clean one category. Raises Stopped when told to stop; the journal then knows the rest."""
        kind = category(key)
        listings = [listing for listing in agreed if listing.category == key]
        if why := why_not_cleaned(kind, agreed=bool(listings)):
            self.outcomes.problems.append(why)
            return
        unread: list[Unread] = []
        found = list(places(self._machine, self._guard, kind, unread))
        for _ in unread:
            self.outcomes.could_not_read(key)
        if listings:
            for listing in listings:
                self._clean_agreed(kind, found, listing.items)
            return
        judge = Judge(rule, kind.caution, self._now)
        for place in found:
            self._clean_place(kind, place, judge)

    # --- safe: judged on the spot ------------------------------------------------------------

    def _clean_place(self, kind: Category, place: Place, judge: Judge) -> None:
        handle = place.open()
        try:
            if kind.shape == "trash":
                self._clean_trash(kind, place, handle, judge)
            else:
                self._clean_files(kind, place, handle, judge)
        finally:
            os.close(handle)

    def _clean_files(self, kind: Category, place: Place, root: int, judge: Judge) -> None:
        program_open = bool(place.programs & self._in_use.programs)
        aged = age_of(kind.age)

        def complain(path: str, why: str) -> None:
            self.outcomes.could_not_read(kind.key)

        for folder in walk(root, complain, bottom_up=True):
            going: list[tuple[str, int]] = []
            for name, found in folder.files:
                size = self._size(found)
                reason = judge.why_stays(
                    aged(found),
                    in_use=(found.st_dev, found.st_ino) in self._in_use.files,
                    program_open=program_open,
                )
                if reason is None:
                    going.append((name, size))
                else:
                    self._leave(kind, place, folder, name, size, reason)
            self._let_files_go(kind, place, folder, going)
            if going and len(going) == len(folder.files):
                self._remove_if_empty(folder, judge)

    def _let_files_go(
        self, kind: Category, place: Place, folder: Folder, going: list[tuple[str, int]]
    ) -> None:
        """Let files of one folder go, in batches that the journal knows beforehand."""
        for start in range(0, len(going), 100):
            batch = going[start : start + 100]
            self._journal.about_to(kind.key, place, folder.path, batch)
            for name, size in batch:
                try:
                    os.unlink(name, dir_fd=folder.handle)
                except FileNotFoundError:
                    self._leave(kind, place, folder, name, size, Reason.GONE)
                except OSError as error:
                    self._leave(kind, place, folder, name, size, *_why_left(error))
                else:
                    self._journal.removed(kind.key, size)
                    # one by one, so that a slow disk still stops and tells within the second
                    self._machine.pace(1)
                    self._watch(kind.key, 1, size)
            self._journal.batch_done()

    def _remove_if_empty(self, folder: Folder, judge: Judge) -> None:
        """A folder that the cleaning emptied goes too, if it is as old as its files had to be."""
        if folder.parent == -1 or folder.changed > judge.cutoff:
            return
        try:
            os.rmdir(folder.name, dir_fd=folder.parent)
        except OSError:
            # not empty after all, or not ours to remove: an empty folder costs nobody anything
            return

    def _clean_trash(self, kind: Category, place: Place, root: int, judge: Judge) -> None:
        layout = self._machine.trash_layout
        whys: list[str] = []

        def complain(path: str, why: str) -> None:
            self.outcomes.could_not_read(kind.key)

        for one in list(trashed(root, layout, self._machine.sizes_as_allocated, complain)):
            in_use = not one.insides.isdisjoint(self._in_use.files)
            reason = judge.why_stays(one.deleted_at, in_use=in_use)
            if reason is not None:
                self.outcomes.leave(kind.key, place.shown, one.name, one.size, reason)
                continue
            below = "files" if layout == "freedesktop" else ""
            self._journal.about_to(kind.key, place, below, [(one.name, one.size)])
            whys.clear()
            if let_go(root, layout, one.name, lambda _path, why: whys.append(why)):
                self._journal.removed(kind.key, one.size)
            else:
                self.outcomes.leave(
                    kind.key, place.shown, one.name, one.size, Reason.FAILED, "; ".join(whys[:3])
                )
            self._journal.batch_done()
            self._machine.pace(1)
            self._watch(kind.key, 1, one.size)

    # --- ask: exactly what was agreed --------------------------------------------------------

    def _clean_agreed(self, kind: Category, found: list[Place], items: Iterable[Item]) -> None:
        by_shown = {place.shown: place for place in found}
        for item in items:
            place = by_shown.get(item.place)
            path = unspell(item)
            if place is None or not is_plain_path(path):
                # not one of this machine's own places: nothing a listing of ours could name
                self.outcomes.leave(
                    kind.key, item.place, path, item.size, Reason.PROTECTED, "outside its place"
                )
                continue
            self._let_agreed_go(kind, place, item, path)

    def _let_agreed_go(self, kind: Category, place: Place, item: Item, path: str) -> None:
        *folders, name = path.split("/")
        try:
            handle = _descend(place, folders)
        except OSError as error:
            why = Reason.GONE if isinstance(error, FileNotFoundError) else Reason.CHANGED
            self.outcomes.leave(kind.key, place.shown, path, item.size, why)
            return
        try:
            reason = self._why_agreed_stays(item, name, handle)
            detail = ""
            if reason is None:
                self._journal.about_to(kind.key, place, "/".join(folders), [(name, item.size)])
                try:
                    os.unlink(name, dir_fd=handle)
                except FileNotFoundError:
                    reason = Reason.GONE
                except OSError as error:
                    reason, detail = _why_left(error)
                else:
                    self._journal.removed(kind.key, item.size)
                self._journal.batch_done()
            if reason is not None:
                self.outcomes.leave(kind.key, place.shown, path, item.size, reason, detail)
        finally:
            os.close(handle)
        self._machine.pace(1)
        self._watch(kind.key, 1, item.size)

    def _why_agreed_stays(self, item: Item, name: str, parent: int) -> Reason | None:
        """Whether the item is still the one that was agreed to, and free to go."""
        try:
            found = os.stat(name, dir_fd=parent, follow_symlinks=False)
        except FileNotFoundError:
            return Reason.GONE
        except OSError:
            return Reason.NO_RIGHT
        seal = item.seal
        if (found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns) != (
            seal.device, seal.file, seal.size, seal.modified_ns,
        ):  # fmt: skip
            return Reason.CHANGED
        if (found.st_dev, found.st_ino) in self._in_use.files:
            return Reason.IN_USE
        return None

    # --- small things ------------------------------------------------------------------------

    def _size(self, found: os.stat_result) -> int:
        return found.st_blocks * 512 if self._machine.sizes_as_allocated else found.st_size

    def _leave(
        self,
        kind: Category,
        place: Place,
        folder: Folder,
        name: str,
        size: int,
        reason: Reason,
        detail: str = "",
    ) -> None:
        path = f"{folder.path}/{name}" if folder.path else name
        self.outcomes.leave(kind.key, place.shown, path, size, reason, detail)


def _why_left(error: OSError) -> tuple[Reason, str]:
    reason = Reason.NO_RIGHT if isinstance(error, PermissionError) else Reason.FAILED
    return reason, error.strerror or str(error)


def _descend(place: Place, folders: list[str]) -> int:
    """A handle on a folder below a place, opened name by name, never through a link."""
    handle = place.open()
    for name in folders:
        try:
            deeper = open_folder(name, handle)
        finally:
            os.close(handle)
        handle = deeper
    if os.fstat(handle).st_dev != place.device:
        os.close(handle)
        raise OSError("another volume is mounted there")
    return handle
