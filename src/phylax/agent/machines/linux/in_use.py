"""What is open, locked and running on this machine, from /proc (proc(5))."""

from __future__ import annotations

import ctypes
import os
import stat
from collections.abc import Iterator
from functools import cache

import psutil


def open_files() -> Iterator[tuple[int, int]]:
    """(device, inode) of the regular files that processes hold open or have mapped."""
    for pid in filter(str.isdecimal, os.listdir("/proc")):
        try:
            handles = os.listdir(f"/proc/{pid}/fd")
        except OSError:
            handles = []
        for handle in handles:
            known = _known_of(f"/proc/{pid}/fd/{handle}")
            if known is not None:
                yield known
        try:
            with open(f"/proc/{pid}/maps", encoding="utf-8", errors="replace") as maps:
                for line in maps:
                    _, _, _, device, inode, *_ = line.split(maxsplit=5)
                    if inode != "0":
                        major, _, minor = device.partition(":")
                        yield os.makedev(int(major, 16), int(minor, 16)), int(inode)
        except OSError:
            continue


class _Statx(ctypes.Structure):
    """The first fields of struct statx, statx(2), as far as they are wanted; 256 bytes in all."""

    _fields_ = (
        ("mask", ctypes.c_uint32), ("before_mode", ctypes.c_uint8 * 24),
        ("mode", ctypes.c_uint16), ("spare", ctypes.c_uint16), ("inode", ctypes.c_uint64),
        ("before_device", ctypes.c_uint8 * 96), ("major", ctypes.c_uint32),
        ("minor", ctypes.c_uint32), ("rest", ctypes.c_uint8 * 112),
    )  # fmt: skip


_AT_FDCWD, _DONT_SYNC, _TYPE_AND_INODE = -100, 0x4000, 0x101


@cache
def _statx() -> ctypes._NamedFuncPointer | None:
    try:
        call = ctypes.CDLL(None, use_errno=True).statx
    except AttributeError:
        return None
    call.argtypes = (
        ctypes.c_int, ctypes.c_char_p, ctypes.c_int, ctypes.c_uint, ctypes.c_void_p,
    )  # fmt: skip
    return call


def _known_of(path: str) -> tuple[int, int] | None:
    """(device, inode) of a regular file, by what the kernel knows of it: the server of a file
    system that does not answer is not asked."""
    call = _statx()
    if call is None:
        try:
            of = os.stat(path)
        except OSError:
            return None
        return (of.st_dev, of.st_ino) if stat.S_ISREG(of.st_mode) else None
    known = _Statx()
    if call(_AT_FDCWD, path.encode(), _DONT_SYNC, _TYPE_AND_INODE, ctypes.byref(known)):
        return None
    if not stat.S_ISREG(known.mode):
        return None
    return os.makedev(known.major, known.minor), int(known.inode)


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
