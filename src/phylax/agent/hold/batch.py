"""One batch of the hold on the disk: its manifest, the things under their numbers, the way back.

What is about to be held is in the manifest, on the disk, before anything moves, and moving is one
step: so whatever happens, a thing lies either where it was or under its number. The format:
docs/hold.md.
"""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Callable, Iterator, Sequence, Set
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple

from pydantic import Field, ValidationError

from phylax.agent import files
from phylax.agent.files.walk import Complaint, Removed, remove_tree
from phylax.agent.hold.manifest import Manifest, begin_manifest
from phylax.agent.hold.sweeping import PART, remove_batch, remove_part, remove_remains
from phylax.agent.hold.way_back import names_beside, open_way_back, way_to
from phylax.agent.survey.item import Candidate, Measure, weigh
from phylax.agent.survey.places import Place, deeper
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Demand, Moment
from phylax.core.survey.file_stat import FileStat

MANIFEST, THINGS, TOLD = "manifest.jsonl", "things", "told"
IN_A_PART = 500
"""Numbers in one folder below `things`: one of a hundred thousand names is slow to all who use it,
and never shrinks."""
_FLAT, _IN_PARTS = 1, 2
"""Layouts of a batch, by the version in its head."""


class Companion(NamedTuple):
    """What the trash wrote down about a thing, which goes and comes back with it."""

    folders: tuple[str, ...]
    name: str


class Holding(NamedTuple):
    """One thing about to be held: a name in an open folder, the bytes it counts."""

    name: str
    size: int
    companion: Companion | None = None


class BatchHead(Demand):
    """The first line of a manifest."""

    version: int = Field(_IN_PARTS, ge=_FLAT, le=_IN_PARTS)
    run_id: int
    category: str
    mount: str
    held_at: Moment
    until_at: Moment
    yields_below: int = Field(0, description="Per cent free, below which it goes before its time")
    agent: str = Field("", description="Which agent holds it: two may share a volume")
    person: str = Field("", description="For whom, where it is not the system's own")
    run: str = Field("", description="Random, the run's own whatever number it was given")
    aside: bool = Field(
        False,
        description="For things that go at once: what is still here was cut off, and goes back",
    )


class Held(NamedTuple):
    """One thing as the manifest has it; whether it is still held, the disk says."""

    number: int
    root: str
    place: str
    folders: tuple[str, ...]
    """Below the root."""
    below: int
    """So many of the folders belong to the place."""
    chain: tuple[tuple[int, int, int], ...]
    """(mode, user, group) of the root and each of the folders below it."""
    name: str
    size: int
    companion: Companion | None

    @property
    def path(self) -> str:
        """Below the place."""
        return "/".join((*self.folders[self.below :], self.name))

    def moved(self, folder: str, to: str) -> Held:
        """The same with its way as it is since one of the folders on it was moved or renamed."""
        if self.root != folder and not self.root.startswith(folder + "/"):
            return self
        return self._replace(root=to + self.root[len(folder) :])


class Batch:
    """What one run holds of one category on one volume."""

    def __init__(self, path: str, head: BatchHead, handle: int, things: int) -> None:
        self.path = path
        self.name = os.path.basename(path)
        self.head = head
        self._handle = handle
        self._things = things
        self._closed = False
        self._manifest: Manifest | None = None
        self._next = 0
        self._part = (-1, -1)
        """Number and handle of the part that was used last."""
        self._way: tuple[tuple[str, tuple[str, ...], bool], int] | None = None
        """The folder that was put back into last, open: neighbours go the same way."""

    @classmethod
    def make(cls, folder: str, name: str, head: BatchHead) -> Batch:
        """A new batch, or the same one begun before. OSError where there is no room."""
        top = files.open_top(folder)
        try:
            for _ in range(2):
                with suppress(FileNotFoundError):
                    return cls.open(folder, name)
                # a batch appears whole: what is cut off before it has its name is swept away
                part = f"{name}{PART}"
                remove_part(name, top)
                remove_remains(name, top, THINGS)
                files.make_folder(part, top)
                inside = files.open_folder(part, top)
                try:
                    files.make_folder(THINGS, inside)
                    first = head.model_dump_json().encode()
                    begin_manifest(os.path.join(folder, part, MANIFEST), first)
                    files.sync_folder(inside)
                finally:
                    files.close(inside)
                files.move(part, top, name, top)
                files.sync_folder(top)
        finally:
            files.close(top)
        raise OSError(errno.ENOENT, "the hold's folder vanishes", folder)

    @classmethod
    def open(cls, folder: str, name: str) -> Batch:
        """FileNotFoundError where there is none; ValueError where its manifest cannot be read."""
        handle = deeper(files.open_top(folder), [name])
        try:
            path = os.path.join(folder, name)
            with open(os.path.join(path, MANIFEST), encoding="utf-8") as lines:
                head = BatchHead.model_validate_json(lines.readline())
            things = files.open_folder(THINGS, handle)
        except BaseException as error:
            files.close(handle)
            if isinstance(error, ValidationError):
                raise ValueError(f"{name}: {error}") from error
            raise
        return cls(path, head, handle, things)

    def close(self) -> None:
        if self._closed:
            return
        self._closed = True
        if self._manifest is not None:
            self._manifest.close()
        if self._way is not None:
            files.close(self._way[1])
        if self._part[1] >= 0:
            files.close(self._part[1])
        files.close(self._things)
        files.close(self._handle)

    # --- holding -----------------------------------------------------------------------------

    def announce(self, place: Place, folders: Sequence[str], going: Sequence[Holding]) -> int:
        """Note what is about to be held of one folder; the number of the first of it.

        OSError ENOSPC where the volume has no room for the note; then nothing is noted.
        """
        if self._manifest is None:
            self._manifest = Manifest(os.path.join(self.path, MANIFEST))
            self._next = 1 + max((held.number for held in self.announced()), default=0)
        # whatever becomes of the note, no number is ever given twice; all of it in one part
        first = self._next
        if first % IN_A_PART + len(going) > IN_A_PART:
            first += -first % IN_A_PART
        self._next = first + len(going)
        line = {
            "first": first,
            "root": place.root,
            "place": place.shown,
            "folders": [*place.below, *folders],
            "below": len(place.below),
            "chain": way_to(place, folders),
            "things": [
                [holding.name, holding.size, *([holding.companion] if holding.companion else [])]
                for holding in going
            ],
        }
        self._manifest.add(json.dumps(line).encode("ascii"))
        self._make_parts(first, self._next - 1)
        return first

    def part(self, number: int) -> int:
        """A handle on the folder in which the thing of a number lies, under that number; it is
        open until another part is asked for. FileNotFoundError where there is none yet."""
        if self.head.version == _FLAT:
            return self._things
        part = number // IN_A_PART
        if self._part[0] != part:
            handle = files.open_folder(str(part), self._things)
            if self._part[1] >= 0:
                files.close(self._part[1])
            self._part = part, handle
        return self._part[1]

    def _make_parts(self, first: int, last: int) -> None:
        if self.head.version == _FLAT:
            return
        for part in range(first // IN_A_PART, last // IN_A_PART + 1):
            with suppress(FileExistsError):
                files.make_folder(str(part), self._things)

    def take(self, number: int, name: str, parent: int) -> None:
        """Move an announced thing into the hold. OSError where that fails."""
        files.move(name, parent, str(number), self.part(number))

    def look(self, number: int) -> FileStat | None:
        """What a thing is by now; None where it is not here."""
        try:
            return files.look(str(number), self.part(number))
        except FileNotFoundError:
            return None

    def weigh(self, number: int, measure: Measure, breathe: Callable[[], None]) -> Candidate | None:
        """A thing here with all that is in it."""
        part = self.part(number)
        return weigh(str(number), part, measure, lambda path, why: None, breathe=breathe)

    def undo(self, number: int, name: str, parent: int) -> None:
        """Move a thing back that was just taken. FileExistsError where its name is taken again."""
        files.move(str(number), self.part(number), name, parent)

    def take_companion(self, number: int, name: str, parent: int) -> None:
        with suppress(FileNotFoundError):
            files.move(name, parent, f"{number}+", self.part(number))

    # --- what is held ------------------------------------------------------------------------

    def announced(self, numbers: Sequence[int] = ()) -> Iterator[Held]:
        """Everything ever announced, or only some; streamed, for there may be very many."""
        wanted = frozenset(numbers)
        with open(os.path.join(self.path, MANIFEST), encoding="utf-8", errors="replace") as lines:
            next(lines, "")
            for line in lines:
                try:
                    row_ = json.loads(line)
                except json.JSONDecodeError:
                    # cut off while it was written: nothing of it had been moved
                    continue
                yield from _held_in(row_, wanted)

    def is_held(self, number: int) -> bool:
        return self.look(number) is not None

    def held(self) -> Iterator[Held]:
        """What lies here now."""
        return (entry for entry in self.announced() if self.is_held(entry.number))

    @property
    def is_empty(self) -> bool:
        if self.head.version == _FLAT:
            return files.is_empty(self._things)
        return all(self._is_empty_part(name) for name in files.names(self._things))

    def _is_empty_part(self, name: str) -> bool:
        try:
            part = files.open_folder(name, self._things)
        except OSError:
            # nothing of ours
            return False
        try:
            return files.is_empty(part)
        finally:
            files.close(part)

    def tally(self) -> Tally:
        count = size = 0
        for entry in self.held():
            count, size = count + 1, size + entry.size
        return Tally(count=count, size=size)

    # --- ending ------------------------------------------------------------------------------

    def put_back(self, entry: Held, *, beside: bool) -> str:
        """Put one thing back where it lay; the name it has there.

        FileExistsError where that name is taken again and it is not to be put beside. OSError
        where a folder on the way is now something else, or the volume refuses.
        """
        parent = self._way_to(entry, beside=beside)
        try:
            for name in names_beside(entry.name) if beside else [entry.name]:
                if entry.companion is not None and files.exists(name, parent):
                    # the note of what is there must stay its own
                    continue
                with suppress(FileExistsError):
                    noted = entry.companion and self._put_companion_back(
                        entry, entry.companion, name
                    )
                    try:
                        files.move(str(entry.number), self.part(entry.number), name, parent)
                    except OSError:
                        if noted is not None:
                            self._take_companion_again(entry, noted)
                        raise
                    return name
        except BaseException:
            self._forget_way()
            raise
        raise FileExistsError(errno.EEXIST, "the name is taken again", entry.name)

    def _way_to(self, entry: Held, *, beside: bool) -> int:
        """A handle on the folder that a thing lay in, kept open for its neighbours."""
        key = (entry.root, entry.folders, beside)
        if self._way is None or self._way[0] != key:
            self._forget_way()
            self._way = key, open_way_back(entry.root, entry.folders, entry.chain, beside=beside)
        return self._way[1]

    def _forget_way(self) -> None:
        if self._way is not None:
            files.close(self._way[1])
            self._way = None

    def _put_companion_back(
        self, entry: Held, companion: Companion, name: str
    ) -> tuple[Companion, str] | None:
        """First the note, then the thing: a trash is never without the note of what it shows. A
        thing put beside takes its note along, under the name that goes with its own."""
        note = companion.name.replace(entry.name, name, 1)
        if companion.name.startswith("$I"):
            note = "$I" + name[2:]
        with self._companion_folder(entry, companion) as folder:
            try:
                files.move(f"{entry.number}+", self.part(entry.number), note, folder)
            except FileNotFoundError:
                return None
        return companion, note

    def _take_companion_again(self, entry: Held, noted: tuple[Companion, str]) -> None:
        companion, note = noted
        with suppress(OSError), self._companion_folder(entry, companion) as folder:
            files.move(note, folder, f"{entry.number}+", self.part(entry.number))

    @contextmanager
    def _companion_folder(self, entry: Held, companion: Companion) -> Iterator[int]:
        chain = entry.chain[: len(companion.folders) + 1]
        folder = open_way_back(entry.root, companion.folders, chain)
        try:
            yield folder
        finally:
            files.close(folder)

    def unlink(self, number: int) -> None:
        """Let a thing go that is a file and has no note. OSError where that fails."""
        files.unlink(str(number), self.part(number))

    def let_go(
        self,
        number: int,
        complain: Complaint,
        breathe: Callable[[], None] = lambda: None,
        *,
        allocated: bool = True,
    ) -> Removed:
        """Let one thing go for good, then what the trash wrote down about it."""
        try:
            part = self.part(number)
        except FileNotFoundError:
            return Removed(True, 0, 0)
        removed = remove_tree(str(number), part, complain, breathe, allocated=allocated)
        if removed.whole:
            remove_tree(f"{number}+", part, complain)
        return removed

    def sweep_up(self) -> bool:
        """Close and remove the batch itself, where nothing is held in it any more."""
        if not self.is_empty:
            return False
        # not every system removes a folder that is open
        self.close()
        top = files.open_top(os.path.dirname(self.path))
        try:
            return remove_batch(self.name, top)
        finally:
            files.close(top)

    # --- telling -----------------------------------------------------------------------------

    @property
    def length(self) -> int:
        """Bytes of the manifest by now, while it is not written."""
        return os.stat(os.path.join(self.path, MANIFEST)).st_size

    @property
    def is_told(self) -> bool:
        """Whether the service knows of everything in the manifest."""
        try:
            return int(Path(self.path, TOLD).read_text(encoding="ascii")) == self.length
        except (FileNotFoundError, ValueError):
            return False

    def note_untold(self) -> None:
        """The service may not know of it any more."""
        Path(self.path, TOLD).unlink(missing_ok=True)

    def note_told(self, length: int) -> None:
        # forgotten on a full volume: it is told once more, which does no harm
        with suppress(OSError):
            Path(self.path, TOLD).write_text(str(length), encoding="ascii")


def _held_in(line: Any, wanted: Set[int]) -> Iterator[Held]:
    """The things that one line of a manifest announces; none where it is not as written by us."""
    try:
        folders, root, place = tuple(map(str, line["folders"])), str(line["root"]), line["place"]
        chain = tuple((int(m), int(u), int(g)) for m, u, g in line["chain"])
        for number, (name, size, *more) in enumerate(line["things"], int(line["first"])):
            if wanted and number not in wanted:
                continue
            companion = Companion(tuple(more[0][0]), str(more[0][1])) if more else None
            yield Held(
                number, root, str(place), folders, int(line["below"]), chain, str(name), int(size),
                companion,
            )  # fmt: skip
    except (KeyError, TypeError, ValueError, IndexError):
        # by another version, or damaged: nothing that can be put back by it
        return
