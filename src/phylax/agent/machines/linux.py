"""The Linux machine kind: this very machine, through its public interfaces.

Volumes from /proc/self/mountinfo and statvfs, people from the user database, locations by the XDG
base directory and user directory conventions, open files from /proc.
"""

from __future__ import annotations

import os
import platform
import pwd
import re
import socket
import stat
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from typing import Literal

import psutil

from phylax import __version__
from phylax.agent.machines import InUse, Location, TrashLayout
from phylax.core.catalogue import Base
from phylax.core.shop import MachineFacts, ReadingIn, System

_DISK_FILE_SYSTEMS = frozenset(
    {"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "vfat", "exfat", "ntfs", "ntfs3", "fuseblk",
     "zfs", "jfs", "reiserfs", "bcachefs"}
)  # fmt: skip
_SYSTEM_FOLDERS = (
    "/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/opt", "/proc", "/sbin", "/srv", "/sys",
    "/usr", "/var/lib",
)  # fmt: skip
_OWN_FOLDERS = (
    "Documents", "Pictures", "Desktop", "Music", "Videos", "Mail", ".thunderbird", ".ssh", ".gnupg",
)  # fmt: skip
_FIRST_PERSON = 1000
_LAST_PERSON = 60000
_OCTAL = re.compile(r"\\([0-7]{3})")


class Mount:
    """One line of /proc/self/mountinfo that is a disk's file system."""

    __slots__ = ("device", "file_system", "path", "source")

    def __init__(self, path: str, device: int, file_system: str, source: str) -> None:
        self.path = path
        self.device = device
        self.file_system = file_system
        self.source = source


def mounts() -> list[Mount]:
    """The mounted disk file systems, each device once (by its shortest mount)."""
    found: dict[int, Mount] = {}
    with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as lines:
        for line in lines:
            left, _, right = line.partition(" - ")
            file_system, source = right.split()[:2]
            path = _OCTAL.sub(lambda m: chr(int(m[1], 8)), left.split()[4])
            if file_system not in _DISK_FILE_SYSTEMS:
                continue
            try:
                device = os.stat(path).st_dev
            except OSError:
                continue
            if device not in found or len(path) < len(found[device].path):
                found[device] = Mount(path, device, file_system, source)
    return sorted(found.values(), key=lambda m: m.path)


class LinuxMachine:
    """A real Linux machine."""

    system = System.LINUX
    trash_layout: TrashLayout = "freedesktop"
    sizes_as_allocated = True

    def __init__(self, homes: Sequence[str] = ()) -> None:
        """Look after everyone's home, or only after the given ones and the volumes they are on."""
        self._homes = tuple(os.path.realpath(home) for home in homes)

    def facts(self) -> MachineFacts:
        return MachineFacts(
            system=self.system,
            host=socket.gethostname(),
            agent_version=__version__,
            kind="linux",
            memory=psutil.virtual_memory().total,
            make=_dmi("sys_vendor"),
            model=_dmi("product_name"),
        )

    def people(self) -> Iterator[tuple[str, int, str]]:
        """(name, user number, home) of everyone looked after."""
        if self._homes:
            for home in self._homes:
                if os.path.isdir(home):
                    yield os.path.basename(home), os.stat(home).st_uid, home
            return
        for entry in pwd.getpwall():
            is_person = _FIRST_PERSON <= entry.pw_uid <= _LAST_PERSON or entry.pw_uid == 0
            if is_person and os.path.isdir(entry.pw_dir):
                yield entry.pw_name, entry.pw_uid, os.path.realpath(entry.pw_dir)

    def _mounts(self) -> list[Mount]:
        found = mounts()
        if self._homes:
            devices = {os.stat(home).st_dev for home in self._homes if os.path.isdir(home)}
            found = [m for m in found if m.device in devices]
        return found

    def volumes(self) -> list[ReadingIn]:
        now = datetime.now(UTC)
        readings = []
        for mount in self._mounts():
            space = os.statvfs(mount.path)
            readings.append(
                ReadingIn(
                    mount=mount.path,
                    capacity=space.f_blocks * space.f_frsize,
                    free=space.f_bavail * space.f_frsize,
                    at=now,
                    file_system=mount.file_system,
                    disk=_disk_kind(mount.device),
                )
            )
        return readings

    def mount_at(self, path: str) -> str:
        device = os.stat(path).st_dev
        return next((m.path for m in mounts() if m.device == device), "/")

    def locations(self, base: Base) -> Iterator[Location]:
        match base:
            case "volume-trash":
                yield from self._volume_trashes()
            case "user-local-data":
                return
            case _:
                for name, uid, home in self.people():
                    for path in _personal(base, uid, home):
                        if os.path.isdir(path) and not os.path.islink(path):
                            yield Location(path, path, name)

    def _volume_trashes(self) -> Iterator[Location]:
        """Trash folders at the top of volumes, by the freedesktop.org Trash specification 1.0.

        `$topdir/.Trash/$uid` counts only where `.Trash` is no link and has its sticky bit set.
        """
        for mount in self._mounts():
            shared = os.path.join(mount.path, ".Trash")
            for name, uid, _ in self.people():
                if _is_sticky_folder(shared):
                    own = os.path.join(shared, str(uid))
                    if _is_folder(own):
                        yield Location(own, own, name)
                own = os.path.join(mount.path, f".Trash-{uid}")
                if _is_folder(own):
                    yield Location(own, own, name)

    def in_use(self) -> InUse:
        return InUse(files=frozenset(_open_files()), programs=frozenset(_programs()))

    def sealed(self) -> Sequence[str]:
        own = (os.path.join(home, own) for _, _, home in self.people() for own in _OWN_FOLDERS)
        return (*_SYSTEM_FOLDERS, *own)

    def roots(self) -> Sequence[str]:
        return ("/home", *(m.path for m in mounts()), *(home for _, _, home in self.people()))

    def join(self, shown: str, below: str) -> str:
        return os.path.join(shown, below) if below else shown

    def pace(self, items: int) -> None:
        """A real disk needs no pretending."""


def _personal(base: Base, uid: int, home: str) -> Iterator[str]:
    match base:
        case "user-temp":
            yield os.path.join(home, ".tmp")
            # where a per-person TMPDIR is made at sign-in (pam_tmpdir)
            yield f"/tmp/user/{uid}"
        case "user-trash":
            yield os.path.join(home, ".local/share/Trash")
        case "user-downloads":
            yield _user_dir(home, "XDG_DOWNLOAD_DIR") or os.path.join(home, "Downloads")
        case "user-cache":
            yield os.path.join(home, ".cache")


def _user_dir(home: str, key: str) -> str | None:
    """A folder that `~/.config/user-dirs.dirs` names (xdg-user-dirs)."""
    try:
        with open(os.path.join(home, ".config/user-dirs.dirs"), encoding="utf-8") as lines:
            for line in lines:
                name, _, value = line.strip().partition("=")
                if name == key:
                    path = value.strip('"').replace("$HOME", home)
                    return os.path.realpath(path) if path.startswith("/") else None
    except OSError:
        return None
    return None


def _is_folder(path: str) -> bool:
    try:
        return stat.S_ISDIR(os.lstat(path).st_mode)
    except OSError:
        return False


def _is_sticky_folder(path: str) -> bool:
    try:
        mode = os.lstat(path).st_mode
    except OSError:
        return False
    return stat.S_ISDIR(mode) and bool(mode & stat.S_ISVTX)


def _open_files() -> Iterator[tuple[int, int]]:
    """(device, inode) of the regular files that processes hold open or have mapped."""
    for pid in filter(str.isdecimal, os.listdir("/proc")):
        try:
            handles = os.listdir(f"/proc/{pid}/fd")
        except OSError:
            handles = []
        for handle in handles:
            try:
                found = os.stat(f"/proc/{pid}/fd/{handle}")
            except OSError:
                continue
            if stat.S_ISREG(found.st_mode):
                yield found.st_dev, found.st_ino
        try:
            with open(f"/proc/{pid}/maps", encoding="utf-8", errors="replace") as maps:
                for line in maps:
                    _, _, _, device, inode, *_ = line.split(maxsplit=5)
                    if inode != "0":
                        major, _, minor = device.partition(":")
                        yield os.makedev(int(major, 16), int(minor, 16)), int(inode)
        except OSError:
            continue


def _programs() -> Iterator[str]:
    for process in psutil.process_iter(["name"]):
        if name := process.info["name"]:
            yield name.lower()


def _dmi(field: str) -> str:
    try:
        with open(f"/sys/class/dmi/id/{field}", encoding="utf-8", errors="replace") as file:
            return file.read().strip()[:120]
    except OSError:
        return platform.machine() if field == "product_name" else ""


def _disk_kind(device: int) -> Literal["ssd", "spinning", "unknown"]:
    """Whether the disk behind a device number turns, as the kernel says."""
    block = os.path.realpath(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}")
    for folder in (block, os.path.dirname(block)):
        try:
            with open(os.path.join(folder, "queue/rotational"), encoding="ascii") as file:
                return "spinning" if file.read().strip() == "1" else "ssd"
        except OSError:
            continue
    return "unknown"
