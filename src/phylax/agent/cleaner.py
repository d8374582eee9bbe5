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
from phylax.agent.outcomes import Outcomes
from phylax.agent.places import Place, Territory
from phylax.agent.seen import Seen
from phylax.agent.surveyor import Watcher
from phylax.agent.trash import let_go
from phylax.agent.walk import Complaint, Folder, remove_tree
from phylax.agent.webstores import stores_in
from phylax.agent.weighing import Weighing, handle_on
from phylax.core.catalogue import Category, category
from phylax.core.counting import unspell
from phylax.core.orders import AgreedListing
from phylax.core.retention import Judge, ProtectEntry, Protection, Reason, RuleInForce
from phylax.core.survey import Item, Seal


class Cleaner:
    """Cleans one machine once."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        journal: RunJournal,
        now: datetime,
        watch: Watcher,
        *,
        own_folders: Iterable[str] = (),
        protect: Iterable[ProtectEntry] = (),
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._journal = journal
        self._now = now
        self._watch = watch
        self._in_use = machine.in_use()
        self._volumes = machine.volumes()
        self._territory = Territory(machine, guard, self._volumes, own_folders)
        self._protection = Protection(protect, machine.system)
        self.outcomes = Outcomes()

    def clean(
        self,
        key: str,
        rule: RuleInForce,
        agreed: Iterable[AgreedListing],
        *,
        standing: bool = False,
    ) -> None:
        """Clean one category. Raises Stopped when told to stop; the journal then knows the rest.

        `standing` says that an `ask` category may go by its rule, by a standing consent.
        """
        kind = category(key)
        listings = [listing for listing in agreed if listing.category == key]
        if why := why_not_cleaned(kind, rule, agreed=bool(listings) or standing):
            self.outcomes.problems.append(why)
            return
        weighing = Weighing(
            self._machine,
            self._territory,
            kind,
            rule,
            self._protection,
            self._in_use,
            self._volumes,
            self._now,
        )
        found = self._territory.places(key)
        for _ in self._territory.unread(key):
            self.outcomes.could_not_read(key)
        if listings:
            for listing in listings:
                self._clean_agreed(weighing, found, listing.items)
            return
        by_mount: dict[str, list[Place]] = {}
        for place in found:
            by_mount.setdefault(place.mount, []).append(place)
        for mount, places in by_mount.items():
            judge = weighing.judge_for(mount, places)
            for place in places:
                self._clean_place(weighing, place, judge)

    # --- by the rule: judged on the spot -----------------------------------------------------

    def _clean_place(self, weighing: Weighing, place: Place, judge: Judge) -> None:
        try:
            if weighing.kind.shape == "files":
                handle = place.open()
                try:
                    self._clean_files(weighing, place, handle, judge)
                finally:
                    os.close(handle)
            else:
                self._clean_items(weighing, place, judge)
        except OSError:
            # the place vanished, or was swapped for a link, since it was looked for
            self.outcomes.could_not_read(weighing.kind.key)

    def _clean_files(self, weighing: Weighing, place: Place, root: int, judge: Judge) -> None:
        kind = weighing.kind
        program_open = bool(place.programs & self._in_use.programs)

        def complain(path: str, why: str) -> None:
            self.outcomes.could_not_read(kind.key)

        for folder in weighing.files(root, place, complain, bottom_up=True):
            going: list[tuple[str, int]] = []
            keeps = weighing.keeper(place, folder)
            for name, found in folder.files:
                size = weighing.size(found)
                reason = judge.why_stays(
                    weighing.aged_from(found),
                    size=size,
                    group=place.shown,
                    in_use=self._in_use.holds(found),
                    program_open=program_open,
                    protected=keeps is not None and keeps(name),
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

    def _clean_items(self, weighing: Weighing, place: Place, judge: Judge) -> None:
        """What is no plain file, item by item."""
        kind = weighing.kind
        program_open = bool(place.programs & self._in_use.programs)

        def complain(path: str, why: str) -> None:
            self.outcomes.could_not_read(kind.key)

        for seen in list(weighing.items(place, complain)):
            reason = judge.why_stays(
                seen.aged_from,
                size=seen.size,
                group=seen.group,
                in_use=seen.in_use,
                program_open=program_open,
                protected=seen.protected,
            )
            if reason is None:
                self._let_item_go(kind, place, seen)
            else:
                self.outcomes.leave(kind.key, place.shown, seen.path, seen.size, reason)

    def _let_item_go(self, kind: Category, place: Place, seen: Seen) -> None:
        below = "files" if kind.shape == "trash" and self._is_freedesktop else ""
        self._journal.about_to(kind.key, place, below, [(seen.path, seen.size)])
        if why := self._why_item_left(kind, place, seen):
            self.outcomes.leave(kind.key, place.shown, seen.path, seen.size, *why)
        else:
            self._journal.removed(kind.key, seen.size)
        self._journal.batch_done()
        self._machine.pace(1)
        self._watch(kind.key, 1, seen.size)

    @property
    def _is_freedesktop(self) -> bool:
        return self._machine.trash_layout == "freedesktop"

    def _why_item_left(self, kind: Category, place: Place, seen: Seen) -> tuple[Reason, str] | None:
        """Let one item go in the way of its shape; why it stayed, or None: it is gone."""
        if kind.shape == "folders":
            path = os.path.join(place.path, seen.path)
            if forbidden := self._guard.why_forbidden(path):
                return Reason.PROTECTED, forbidden
        whys: list[str] = []

        def complain(path: str, why: str) -> None:
            whys.append(why)

        try:
            if let_item_go(self._machine, kind, place, seen.path, complain):
                return None
        except OSError as error:
            return _why_left(error)
        return Reason.FAILED, "; ".join(whys[:3])

    # --- ask: exactly what was agreed --------------------------------------------------------

    def _clean_agreed(self, weighing: Weighing, found: list[Place], items: Iterable[Item]) -> None:
        kind = weighing.kind
        by_shown = {place.shown: place for place in found}
        present: dict[str, dict[str, Seen]] = {}
        for item in items:
            place = by_shown.get(item.place)
            path = unspell(item)
            if place is None or (kind.shape == "files" and not is_plain_path(path)):
                # not one of this machine's own places: nothing a listing of ours could name
                self.outcomes.leave(
                    kind.key, item.place, path, item.size, Reason.PROTECTED, "outside its place"
                )
            elif self._is_protected(weighing, place, path):
                self.outcomes.leave(kind.key, place.shown, path, item.size, Reason.PROTECTED)
            elif kind.shape == "files":
                self._let_agreed_go(kind, place, item, path)
            else:
                if place.shown not in present:
                    present[place.shown] = self._present(weighing, place)
                self._let_agreed_item_go(kind, place, item, present[place.shown].get(path))

    def _present(self, weighing: Weighing, place: Place) -> dict[str, Seen]:
        """What lies in a place now, by name; of one that has vanished, nothing."""
        try:
            return {one.path: one for one in weighing.items(place, lambda path, why: None)}
        except OSError:
            self.outcomes.could_not_read(weighing.kind.key)
            return {}

    def _is_protected(self, weighing: Weighing, place: Place, path: str) -> bool:
        """Whether the protect list keeps a file by now; other items know it of themselves."""
        if weighing.kind.shape != "files" or not self._protection.guards_files:
            return False
        return self._protection.keeps(self._machine.join(place.shown, path))

    def _let_agreed_item_go(
        self, kind: Category, place: Place, item: Item, seen: Seen | None
    ) -> None:
        if seen is None:
            self.outcomes.leave(kind.key, place.shown, item.path, item.size, Reason.GONE)
            return
        seal = Seal(
            device=seen.device, file=seen.file, size=seen.apparent, modified_ns=seen.modified_ns
        )
        reason = None
        if seen.protected:
            reason = Reason.PROTECTED
        elif seal != item.seal:
            reason = Reason.CHANGED
        elif place.programs & self._in_use.programs:
            reason = Reason.PROGRAM_OPEN
        elif seen.in_use:
            reason = Reason.IN_USE
        if reason is None:
            self._let_item_go(kind, place, seen)
        else:
            self.outcomes.leave(kind.key, place.shown, seen.path, seen.size, reason)

    def _let_agreed_go(self, kind: Category, place: Place, item: Item, path: str) -> None:
        *folders, name = path.split("/")
        try:
            handle = handle_on(place, folders)
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


def let_item_go(
    machine: MachineKind, kind: Category, place: Place, name: str, complain: Complaint
) -> bool:
    """Let one item go that is no plain file; True when nothing of it is left.

    OSError where it could not be tried at all.
    """
    match kind.shape:
        case "things":
            assert place.source is not None
            machine.let_go(place.source, name)
            return True
        case "sites" | "visits":
            for store in stores_in(place, kind.shape):
                store.forget([name])
            return True
    handle = place.open()
    try:
        if kind.shape == "trash":
            return let_go(handle, machine.trash_layout, name, complain)
        return remove_tree(name, handle, complain)
    finally:
        os.close(handle)
