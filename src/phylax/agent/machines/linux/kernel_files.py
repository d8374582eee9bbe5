"""Small files in which the kernel says something, and files opened without a trace."""

from __future__ import annotations

import os
import stat


def text_in(folder: str, name: str) -> str:
    """What a file says, without the white around it; empty where it cannot be read."""
    try:
        with open(os.path.join(folder, name), encoding="utf-8", errors="replace") as file:
            return file.read(65536).strip()
    except OSError:
        return ""


def number_in(folder: str, name: str) -> int | None:
    text = text_in(folder, name)
    return int(text) if text.isascii() and text.isdigit() else None


def names_in(folder: str) -> list[str]:
    """The names in a folder, in order; none where it cannot be read."""
    try:
        return sorted(os.listdir(folder))
    except OSError:
        return []


def open_quietly(name: str, parent: int) -> int:
    """A plain file, to be read without following a link, without waiting and, where that is
    allowed, without renewing its time of access. OSError where it is none."""
    flags = os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK
    try:
        handle = os.open(name, flags | os.O_NOATIME, dir_fd=parent)
    except PermissionError:
        handle = os.open(name, flags, dir_fd=parent)
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise FileNotFoundError(name)
    return handle
