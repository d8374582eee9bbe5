"""Mounted volumes, from /proc/self/mountinfo and the kernel's word on disks."""

from __future__ import annotations

import contextlib
import os
import re
from dataclasses import dataclass
from typing import Literal

_DISK_FILE_SYSTEMS = frozenset(
    {"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "vfat", "exfat", "ntfs", "ntfs3", "fuseblk",
     "zfs", "jfs", "reiserfs", "bcachefs"}
)  # fmt: skip
_OCTAL = re.compile(r"\\([0-7]{3})")


@dataclass(frozen=True)
class Mount:
    """One line of /proc/self/mountinfo that is a disk's file system."""

    path: str
    device: int
    file_system: str
    source: str
    options: frozenset[str]


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


def mounts() -> list[Mount]:
    """The mounted disk file systems, each device once (by its shortest mount)."""
    found: dict[int, Mount] = {}
    with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as lines:
        for line in lines:
            left, _, right = line.partition(" - ")
            file_system, source = right.split()[:2]
            fields = left.split()
            path = _OCTAL.sub(lambda m: chr(int(m[1], 8)), fields[4])
            if file_system not in _DISK_FILE_SYSTEMS:
                continue
            try:
                device = os.stat(path).st_dev
            except OSError:
                continue
            if device not in found or len(path) < len(found[device].path):
                options = frozenset(fields[5].split(","))
                found[device] = Mount(path, device, file_system, source, options)
    return sorted(found.values(), key=lambda m: m.path)


def mount_of(path: str) -> str:
    """The mount of the volume that a real path lies on, also where that is no disk's."""
    device = os.stat(path).st_dev
    known = next((m.path for m in mounts() if m.device == device), None)
    if known is not None:
        return known
    while path != "/" and os.stat(os.path.dirname(path)).st_dev == device:
        path = os.path.dirname(path)
    return path


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
