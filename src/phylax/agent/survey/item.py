"""An item that may go, and measuring a file or a whole folder as one item."""

from __future__ import annotations

import stat
from collections.abc import Callable
from typing import NamedTuple

from phylax.agent import files
from phylax.agent.files.walk import Complaint, walk
from phylax.core.retention import ProtectEntry
from phylax.core.survey import FileIdentity
from phylax.core.survey.file_stat import FileStat

Keeps = Callable[[str], ProtectEntry | None]
"""Which entry of the protect list keeps a path, if any."""


class Candidate(NamedTuple):
    """An item that may go, with what is known of it. Ages are epoch seconds, sizes bytes on the
    volume."""

    path: str
    size: int
    aged_from: int
    device: int = 0
    file: int = 0
    apparent: int = 0
    modified_ns: int = 0
    changed_ns: int = 0
    insides: frozenset[tuple[int, int]] = frozenset()
    """(device, file number) of every file in it."""
    group: str = ""
    user: str = ""
    in_use: bool = False
    kept_by: ProtectEntry | None = None
    """The entry of the protect list that keeps it, or something in it."""
    foreign: bool = False
    """Somebody else's, as a whole or something in it."""
    unseen: str = ""
    """Why something in it could not be looked at; then it stays as a whole."""
    is_link: bool = False

    @property
    def protected(self) -> bool:
        return self.kept_by is not None

    @property
    def seal(self) -> FileIdentity:
        return FileIdentity(
            device=self.device,
            file=self.file,
            size=self.apparent,
            modified_ns=self.modified_ns,
            changed_ns=self.changed_ns,
        )

    def same_contents(self, other: Candidate) -> bool:
        """Whether it is what it was, but for the times that a move of its own changes."""
        return (self.device, self.file, self.apparent, self.modified_ns, self.insides) == (
            other.device, other.file, other.apparent, other.modified_ns, other.insides,
        )  # fmt: skip


class Measure(NamedTuple):
    """How files are measured on a machine."""

    allocated: bool
    """By the blocks they hold; else by their length."""
    attributes: bool
    """A change of attributes makes a file young: only where a program cannot set that time."""
    owners: range | None = None
    """Whose files may go; None: everyone's."""

    def size(self, of: FileStat) -> int:
        return of.st_blocks * 512 if self.allocated else of.st_size

    def newest(self, of: FileStat) -> float:
        """When a file was last changed, contents or attributes."""
        return max(of.st_mtime, of.st_ctime) if self.attributes else of.st_mtime

    def is_foreign(self, of: FileStat) -> bool:
        return self.owners is not None and of.st_uid not in self.owners


def weigh(
    name: str,
    parent: int,
    measure: Measure,
    complain: Complaint,
    keeps: Keeps | None = None,
    below: str = "",
    breathe: Callable[[], None] = lambda: None,
) -> Candidate | None:
    """A file or a folder with all that is in it, hard links counted once; None: it is gone.

    Its age counts from the newest change in it. It is kept by the entry that `keeps` names
    for it or anything inside, by the path below the place; `below` is where in the place it lies.
    """
    shown = f"{below}{name}"
    if not files.is_folder(name, parent):
        try:
            of = files.look(name, parent)
        except FileNotFoundError:
            return None
        return Candidate(
            path=name,
            size=measure.size(of),
            aged_from=int(measure.newest(of)),
            device=of.st_dev,
            file=of.st_ino,
            apparent=of.st_size,
            modified_ns=of.st_mtime_ns,
            changed_ns=of.st_ctime_ns,
            insides=frozenset({(of.st_dev, of.st_ino)}),
            kept_by=None if keeps is None else keeps(shown),
            foreign=measure.is_foreign(of),
            is_link=stat.S_ISLNK(of.st_mode),
        )
    try:
        handle = files.open_folder(name, parent)
    except FileNotFoundError:
        return None
    except OSError as error:
        complain(shown, error.strerror or str(error))
        return None
    try:
        return _weigh_folder(name, handle, measure, complain, keeps, shown, breathe)
    finally:
        files.close(handle)


def _weigh_folder(
    name: str,
    handle: int,
    measure: Measure,
    complain: Complaint,
    keeps: Keeps | None,
    shown: str,
    breathe: Callable[[], None],
) -> Candidate:
    top = files.about(handle)
    size = top.st_blocks * 512 if measure.allocated else 0
    insides = {(top.st_dev, top.st_ino)}
    kept_by = None if keeps is None else keeps(shown)
    foreign = measure.is_foreign(top)
    newest, modified, changed = 0.0, 0, 0
    seen_folders = {""}
    unseen = ""

    def could_not_look(path: str, why: str) -> None:
        nonlocal unseen
        unseen = why
        complain(f"{shown}/{path}", why)

    for folder in walk(handle, could_not_look):
        breathe()
        inner_path = f"{shown}/{folder.path}/" if folder.path else f"{shown}/"
        if folder.path not in seen_folders:
            seen_folders.add(folder.path)
            size += folder.about.st_blocks * 512 if measure.allocated else 0
            foreign = foreign or measure.is_foreign(folder.about)
        for inner_name, inner in folder.files:
            newest = max(newest, measure.newest(inner))
            modified = max(modified, inner.st_mtime_ns)
            changed = max(changed, inner.st_ctime_ns)
            foreign = foreign or measure.is_foreign(inner)
            if kept_by is None and keeps is not None:
                kept_by = keeps(inner_path + inner_name)
            inode = (inner.st_dev, inner.st_ino)
            if inode not in insides:
                insides.add(inode)
                size += measure.size(inner)
    return Candidate(
        path=name,
        size=size,
        # where nothing lies in it, by itself
        aged_from=int(newest or measure.newest(top)),
        device=top.st_dev,
        file=top.st_ino,
        # a folder's own length says nothing; its contents' sum does
        apparent=size,
        modified_ns=modified or top.st_mtime_ns,
        changed_ns=max(changed, top.st_ctime_ns),
        insides=frozenset(insides),
        kept_by=kept_by,
        foreign=foreign,
        unseen=unseen,
    )
