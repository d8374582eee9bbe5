"""What is open, locked and running on this machine, from /proc (proc(5))."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator

import psutil


def open_files() -> Iterator[tuple[int, int]]:
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


def locked_files() -> Iterator[tuple[int, int]]:
    """(device, inode) of the files on which a process holds an advisory lock.

    Everyone's, unlike the open files of other people's processes, which an agent without
    administrator rights does not see.
    """
    try:
        with open("/proc/locks", encoding="utf-8", errors="replace") as locks:
            for line in locks:
                fields = line.replace("->", "").split()
                # number, type, mode, access, process, device:inode, start, end
                if len(fields) < 6:
                    continue
                major, minor, inode = fields[5].split(":")
                yield os.makedev(int(major, 16), int(minor, 16)), int(inode)
    except OSError:
        return


def programs() -> Iterator[str]:
    """Names of running programs, in small letters."""
    for process in psutil.process_iter(["name"]):
        if name := process.info["name"]:
            yield name.lower()
