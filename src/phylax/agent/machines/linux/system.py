"""The system's part of a Linux machine, for an agent with root's rights: all but what lies in
people's folders, which their own workers look at.
"""

from __future__ import annotations

import os
import pwd
import stat
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace

import psutil

from phylax.agent import files
from phylax.agent.machines import InUse, Location
from phylax.agent.machines.linux import (
    FIRST_PERSON,
    LAST_PERSON,
    LinuxMachine,
)
from phylax.agent.machines.linux.locations import real_home
from phylax.agent.machines.linux.mounts import folder_behind, mount_over
from phylax.agent.machines.linux.people import Person
from phylax.core.survey.file_stat import FileStat

_SHARED = ("tmp", "var/tmp")
_MOST_OWNERS, _MOST_NAMES = 64, 20_000
_PICTURE_FOR = 2.5
"""Seconds; who cleans looks again every five."""


class LinuxSystem(LinuxMachine):
    """This machine without its people, who are worked for apart."""

    _picture: InUse | None = None
    _taken = 0.0

    def people(self) -> Iterator[tuple[str, int, str]]:
        """Root alone, and homes of root's that were chosen."""
        for name, uid, home in super().people():
            if uid == 0:
                yield name, uid, home

    def _scanned_homes(self) -> list[str]:
        return [*super()._scanned_homes(), *(person.home for person in self.with_homes())]

    def roots(self) -> Sequence[str]:
        return (*super().roots(), *(person.home for person in self.apart()))

    def named_folder(self, shown: str) -> Location | None:
        """Of what lies there, only what is the system's: what is a person's is for their worker,
        who keeps it readable for nobody else."""
        location = super().named_folder(shown)
        if location is None or location.why:
            return location
        return replace(location, owners=self.system_owners, is_shared=True)

    def real_folder(self, shown: str) -> str | None:
        """Not in people's homes: their own workers resolve what leads there."""
        homes = [person.home for person in self.apart()]
        return folder_behind(shown, lambda path: any(_is_in(path, home) for home in homes))

    def shared(self) -> list[str]:
        """Folders of the system that everybody may write to."""
        if self._root is None:
            return []
        paths = [os.path.join(self._root, below) for below in _SHARED]
        return [path for path in paths if os.path.isdir(path) and not os.path.islink(path)]

    def apart(self) -> list[Person]:
        """Everyone but root who has a home here, or something at the top of a folder that all may
        write to or that the shop names."""
        people = list(self.with_homes())
        known = {person.uid for person in people}
        for path in (*self.shared(), *self._own_folders):
            for uid, gid in _owners_in(path):
                if uid >= FIRST_PERSON and uid not in known and len(known) < _MOST_OWNERS:
                    known.add(uid)
                    home = f"/nonexistent/{uid}"
                    people.append(Person(name=str(uid), uid=uid, gid=gid, home=home))
        return people

    def with_homes(self) -> Iterator[Person]:
        """Everyone but root who has a home here."""
        if self._homes:
            for home in self._homes:
                if not mount_over(home).answers:
                    continue
                try:
                    of = os.lstat(home)
                except OSError:
                    continue
                if of.st_uid != 0 and stat.S_ISDIR(of.st_mode):
                    yield Person(
                        name=_name_of(of.st_uid, home), uid=of.st_uid, gid=_group(of), home=home
                    )
            return
        for entry in pwd.getpwall():
            if not FIRST_PERSON <= entry.pw_uid <= LAST_PERSON:
                continue
            home = real_home(entry.pw_dir)
            gid = entry.pw_gid or entry.pw_uid
            mount = mount_over(home)
            if mount.file_system == "autofs":
                # not mounted now, and not to be mounted for this
                continue
            if not mount.answers:
                # a network's: nothing of it is asked here, their worker sees to it
                yield Person(name=entry.pw_name, uid=entry.pw_uid, gid=gid, home=home)
                continue
            try:
                of = os.lstat(home)
                if stat.S_ISLNK(of.st_mode) and of.st_uid == 0:
                    # moved elsewhere by the administrator
                    home = os.path.realpath(home)
                    of = os.lstat(home)
            except OSError:
                continue
            # a home that is not its account's is not theirs to have cleaned
            if stat.S_ISDIR(of.st_mode) and of.st_uid == entry.pw_uid:
                yield Person(name=entry.pw_name, uid=entry.pw_uid, gid=gid, home=home)

    def in_use(self) -> InUse:
        """A picture of what is open, at most some seconds old: to take one costs a third of a
        second, and several ask for it in turn."""
        now = time.monotonic()
        if self._picture is None or now - self._taken > _PICTURE_FOR:
            self._picture, self._taken = super().in_use(), now
        return self._picture

    def programs_of(self, uid: int) -> set[str]:
        """Names of the programs that a person has open, in small letters."""
        names = set()
        for process in psutil.process_iter(["name", "uids"]):
            uids = process.info["uids"]
            if uids is not None and uid in uids and process.info["name"]:
                names.add(process.info["name"].lower())
        return names


def _name_of(uid: int, home: str) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return os.path.basename(home)


def _is_in(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder.rstrip("/") + "/")


def _group(of: FileStat) -> int:
    return of.st_gid or of.st_uid


def _owners_in(path: str) -> Iterator[tuple[int, int]]:
    """(user, group) of those to whom something at the top of a folder belongs. Nothing that is
    mounted there is asked."""
    seen: set[int] = set()
    try:
        handle = files.open_top(path)
    except OSError:
        return
    try:
        for number, name in enumerate(files.names(handle)):
            if number == _MOST_NAMES:
                return
            of = files.look_on_this_mount(name, handle)
            if of is not None and of.st_uid not in seen:
                seen.add(of.st_uid)
                yield of.st_uid, of.st_gid or of.st_uid
    finally:
        files.close(handle)
