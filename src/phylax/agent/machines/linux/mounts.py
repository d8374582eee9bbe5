"""Mounts, from /proc/self/mountinfo (proc(5)) and the kernel's word on disks.

Nothing here asks a mount that need not answer: numbers, kinds and paths come from the kernel's own
table. Free space of a file system that a program serves is asked in a process of its own, which may
hang alone.
"""

from __future__ import annotations

import contextlib
import os
import re
import select
import stat
import subprocess
import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Literal, NamedTuple

from phylax.agent.files.stored_names import stored_name

_DISK_FILE_SYSTEMS = frozenset(
    {"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "vfat", "exfat", "ntfs", "ntfs3", "fuseblk",
     "zfs", "jfs", "reiserfs", "bcachefs"}
)  # fmt: skip
_ANSWER = (_DISK_FILE_SYSTEMS - {"fuseblk"}) | {"tmpfs", "ramfs", "overlay", "squashfs", "iso9660"}
"""File systems of the kernel's own, on a disk or in memory: they always answer."""
_OCTAL = re.compile(r"\\([0-7]{3})")
_PATIENCE = 5.0


@dataclass(frozen=True)
class Mount:
    """One line of /proc/self/mountinfo."""

    number: int
    path: str
    device: int
    root: str
    """Which folder of its file system is mounted; '/': all of it."""
    file_system: str
    source: str
    options: frozenset[str]

    @property
    def answers(self) -> bool:
        """Whether it may be asked without fear of waiting for ever."""
        return self.file_system in _ANSWER

    @property
    def is_whole(self) -> bool:
        """Not only a folder of a file system that lies elsewhere as well."""
        return self.root == "/" or self.file_system == "btrfs"


class Space(NamedTuple):
    capacity: int
    free: int


def mount_table() -> list[Mount]:
    """All mounts, in the order in which they were made."""
    return _table.read()


def table_of(process: int) -> list[Mount]:
    """All mounts as another process sees them. OSError where it may not be asked."""
    with open(f"/proc/{process}/mountinfo", "rb") as file:
        return _parse(file.read().decode("utf-8", "surrogateescape"))


class _Table:
    """Reads the kernel's table anew only where it has changed: it says so when polled."""

    def __init__(self) -> None:
        self._process = 0
        self._file = -1
        self._mounts: list[Mount] = []

    def read(self) -> list[Mount]:
        if self._process != os.getpid():
            # a forked worker closes what it was born with
            self._file = os.open("/proc/self/mountinfo", os.O_RDONLY | os.O_CLOEXEC)
            self._process, self._mounts = os.getpid(), []
        poll = select.poll()
        poll.register(self._file, select.POLLPRI)
        if poll.poll(0) or not self._mounts:
            os.lseek(self._file, 0, os.SEEK_SET)
            with open(self._file, "rb", closefd=False) as file:
                text = file.read()
            self._mounts = _parse(text.decode("utf-8", "surrogateescape"))
        return self._mounts


_table = _Table()


def _parse(text: str) -> list[Mount]:
    table = []
    for line in text.split("\n"):
        if line:
            left, _, right = line.partition(" - ")
            fields, (file_system, source, *_) = left.split(), (*right.split(), "")
            major, _, minor = fields[2].partition(":")
            table.append(
                Mount(
                    number=int(fields[0]),
                    path=_plain(fields[4]),
                    device=os.makedev(int(major), int(minor)),
                    root=_plain(fields[3]),
                    file_system=file_system,
                    source=source,
                    options=frozenset(fields[5].split(",")),
                )
            )
    return table


def _plain(text: str) -> str:
    """Spaces, tabs, line breaks and backslashes are written in octal there."""
    return _OCTAL.sub(lambda match: chr(int(match[1], 8)), text)


def mounts() -> list[Mount]:
    """The mounted disk file systems, each device once (whole, by its shortest path)."""
    table: dict[int, Mount] = {}
    for mount in mount_table():
        if mount.file_system not in _DISK_FILE_SYSTEMS:
            continue
        known = table.get(mount.device)
        if known is None or _rank(mount) < _rank(known):
            table[mount.device] = mount
    return sorted(table.values(), key=lambda mount: mount.path)


def _rank(mount: Mount) -> tuple[bool, int]:
    return not mount.is_whole, len(mount.path)


def mount_over(path: str, table: Iterable[Mount] | None = None) -> Mount:
    """The mount that a real path lies on, by its name alone."""
    best: Mount | None = None
    for mount in mount_table() if table is None else table:
        # of two at the same path the later one counts
        if _is_at_or_in(path, mount.path) and (best is None or len(mount.path) >= len(best.path)):
            best = mount
    if best is None:
        raise FileNotFoundError(2, "lies on no mount", path)
    return best


_MOST_LINKS = 40


def folder_behind(path: str, leave: Callable[[str], bool] = lambda path: False) -> str | None:
    """Where a folder really is, links resolved; None: there is none, or something on the way lies
    on a mount that may not answer, which is never asked, or is to be left alone.

    A name that is not there as written may be there with its accents stored the other way.
    """

    def is_barred(path: str) -> bool:
        return leave(path) or not mount_over(path).answers

    real, rest, links = "/", os.path.normpath(path).strip("/").split("/"), 0
    while rest:
        name = rest.pop(0)
        if name in ("", "."):
            continue
        if name == "..":
            real = os.path.dirname(real)
            continue
        inner = os.path.join(real, name)
        if is_barred(inner):
            return None
        if (stored := stored_name(real, name)) != name:
            inner = os.path.join(real, stored)
            if is_barred(inner):
                return None
        try:
            of = os.lstat(inner)
            if stat.S_ISDIR(of.st_mode):
                real = inner
                continue
            if not stat.S_ISLNK(of.st_mode) or links == _MOST_LINKS:
                return None
            links += 1
            target = os.readlink(inner)
        except OSError:
            return None
        real = "/" if target.startswith("/") else real
        rest = [*target.split("/"), *rest]
    return real


def mount_of(path: str) -> str:
    """The mount of the volume that a real path lies on, also where that is no disk's."""
    mount = mount_over(path)
    return next((m.path for m in mounts() if m.device == mount.device), mount.path)


def why_mounted_over(path: str, base: str, table: Iterable[Mount] | None = None) -> str | None:
    """Why a place may not be entered for what is mounted on the way from `base` to it; None: a
    volume of its own at most.

    A folder of somewhere else (a bind mount), a whole volume that is mounted elsewhere as well, and
    what a network or a program serves are other people's ways to the same files.
    """
    table = list(mount_table() if table is None else table)
    for mount in table:
        if not _is_at_or_in(path, mount.path) or _is_at_or_in(base, mount.path):
            continue
        if not mount.answers:
            return f"{mount.path} is served by a network or a program"
        twice = any(m.device == mount.device and m.path != mount.path for m in table)
        if not mount.is_whole or twice:
            return f"a folder from elsewhere is mounted at {mount.path}"
    return None


def _is_at_or_in(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder.rstrip("/") + "/")


_ASK = (
    "import os, sys; s = os.statvfs(sys.argv[1]); "
    "print(s.f_blocks * s.f_frsize, s.f_bavail * s.f_frsize)"
)


def space_of(mount: Mount) -> Space | None:
    """How much a volume holds; None where it does not answer."""
    if mount.answers:
        space = os.statvfs(mount.path)
        return Space(space.f_blocks * space.f_frsize, space.f_bavail * space.f_frsize)
    ask = subprocess.Popen(
        [sys.executable, "-I", "-S", "-c", _ASK, mount.path],
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        text, _ = ask.communicate(timeout=_PATIENCE)
        capacity, free = map(int, text.split())
        return Space(capacity, free)
    except (subprocess.TimeoutExpired, ValueError):
        # what hangs in the system cannot be killed: it is left behind, never waited for
        ask.kill()
        return None


_BY_UUID = "/dev/disk/by-uuid"


def identity_of(device: int) -> str:
    """The UUID of a device's file system; empty where the system does not tell."""
    try:
        names = os.listdir(_BY_UUID)
    except OSError:
        return ""
    for name in names:
        with contextlib.suppress(OSError):
            if os.stat(os.path.join(_BY_UUID, name)).st_rdev == device:
                return name
    return ""


def disk_kind(device: int) -> Literal["ssd", "spinning", "unknown"]:
    """Whether the disk behind a device number turns, as the kernel says."""
    block = os.path.realpath(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}")
    for folder in (block, os.path.dirname(block)):
        try:
            with open(os.path.join(folder, "queue/rotational"), encoding="ascii") as file:
                return "spinning" if file.read().strip() == "1" else "ssd"
        except OSError:
            continue
    return "unknown"
