"""The agent's own list of what is held for people: which batch is whose, where, and until when.

A small file for each batch, in the agent's folder. What lies in a person's hold folder is theirs
to change; when it expires, and who is asked about it, is decided by this list alone.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from pydantic import Field, ValidationError

from phylax.agent import files
from phylax.agent.machines import HOLD
from phylax.core.ground.values import Demand, Moment
from phylax.core.hold.holds import BatchName


class HeldFor(Demand):
    """One batch of one person's things."""

    batch: BatchName
    uid: int
    gid: int
    person: str
    home: str
    folder: str = Field(description="The person's hold folder that it lies in")
    run_id: int
    run: str
    category: str
    mount: str
    held_at: Moment
    until_at: Moment
    yields_below: int = 0
    aside: bool = False
    told: bool = False
    sealed: bool = Field(False, description="Its person has gone: nobody but root reaches it")
    count: int = Field(0, description="Things, as the person's worker said")
    size: int = Field(0, description="The same in bytes")

    @property
    def is_open(self) -> bool:
        """Begun, and not counted since: its worker, or the agent, may have been cut off."""
        return self.aside or not self.count


class HoldIndex:
    """All batches that are held for people on this machine."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def entries(self) -> Iterator[HeldFor]:
        """All of them, oldest first. A file that is not as we write them is put aside."""
        listed = []
        for path in sorted(self._folder.glob("*.json")):
            try:
                listed.append(HeldFor.model_validate_json(path.read_bytes()))
            except (OSError, ValidationError):
                path.replace(path.with_suffix(".odd"))
        return iter(sorted(listed, key=lambda entry: (entry.held_at, entry.batch)))

    def get(self, batch: str) -> HeldFor | None:
        return next((entry for entry in self.entries() if entry.batch == batch), None)

    def put(self, entry: HeldFor) -> None:
        """Keep an entry; when this returns it is on the disk."""
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        path = self._folder / f"{entry.batch}.json"
        part = path.with_suffix(".part")
        with part.open("wb") as file:
            file.write(entry.model_dump_json().encode())
            file.flush()
            files.sync(file.fileno())
        part.replace(path)

    def remove(self, batch: str) -> None:
        (self._folder / f"{batch}.json").unlink(missing_ok=True)

    def held_on(self, mount: str) -> int:
        """Bytes held for people on a volume, as their workers said."""
        return sum(entry.size for entry in self.entries() if entry.mount == mount)


class PersonsFolder(NamedTuple):
    """A person's own hold folder in one of root's."""

    path: str
    owner: tuple[int, int]
    """User and group number."""


def persons_folders(roots: Iterable[str]) -> Iterator[PersonsFolder]:
    """People's hold folders in those of root's that are there."""
    for root in roots:
        try:
            of = os.lstat(root)
            names = os.listdir(root) if of.st_uid == 0 and stat.S_ISDIR(of.st_mode) else []
        except OSError:
            continue
        for name in names:
            path = os.path.join(root, name)
            with suppress(OSError):
                of = os.lstat(path)
                if name == str(of.st_uid) and of.st_uid and stat.S_ISDIR(of.st_mode):
                    yield PersonsFolder(path, (of.st_uid, of.st_gid or of.st_uid))


def make_persons_folder(top: str, uid: int, gid: int, own_name: str = "") -> str:
    """A person's own hold folder at the top of a volume: theirs, in one of root's that others may
    only pass through. `own_name` is taken for root's where somebody else has the usual name.

    PermissionError where the top of the volume is somebody else's, or both names are taken.
    """
    handle = files.open_top(top)
    try:
        of = os.fstat(handle)
        if of.st_uid != 0 or (of.st_mode & 0o022 and not of.st_mode & stat.S_ISVTX):
            raise PermissionError(errno.EPERM, "the top of the volume is somebody else's", top)
        name, hold = _roots(handle, own_name)
        try:
            os.close(own_folder(str(uid), hold, 0o700, uid, gid))
        finally:
            os.close(hold)
    finally:
        os.close(handle)
    return os.path.join(top, name, str(uid))


def _roots(top: int, own_name: str) -> tuple[str, int]:
    """The name of root's hold folder at the top of a volume, and a handle on it."""
    try:
        return HOLD, own_folder(HOLD, top, 0o711, 0, 0)
    except (PermissionError, NotADirectoryError, FileExistsError):
        if not own_name:
            raise
    except OSError as error:
        # a link in its stead
        if error.errno != errno.ELOOP or not own_name:
            raise
    return own_name, own_folder(own_name, top, 0o711, 0, 0)


def own_folder(name: str, parent: int, mode: int, uid: int, gid: int) -> int:
    """A handle on a folder of somebody's, made where there is none."""
    made = False
    try:
        os.mkdir(name, 0o700, dir_fd=parent)
        made = True
    except FileExistsError:
        pass
    handle = files.open_folder(name, parent)
    of = os.fstat(handle)
    if made or (of.st_uid == uid == 0 and stat.S_IMODE(of.st_mode) != mode):
        os.fchown(handle, uid, gid)
        os.fchmod(handle, mode)
    elif of.st_uid != uid:
        os.close(handle)
        raise PermissionError(errno.EPERM, "somebody else's folder is in the way", name)
    return handle
