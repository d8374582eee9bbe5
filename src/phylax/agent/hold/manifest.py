"""The manifest of a batch as a file: lines that are on the disk when they are added.

It is written into room that was filled with NULs before, a piece at a time: then a line costs the
disk its own bytes, not a new length of the file, and with it everything else that the file system
is about. The rest of that room is cut off at the end; readers pass over it.
"""

from __future__ import annotations

import errno
import os

from phylax.agent import files

_PIECE = 64 * 2**10


def begin_manifest(path: str, line: bytes) -> None:
    """A new one with its first line. OSError ENOSPC where there is no room."""
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | files.OWN
    handle = os.open(path, flags, 0o600)
    try:
        if files.append(handle, line + b"\n"):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), path)
        files.sync(handle)
    finally:
        os.close(handle)


class Manifest:
    """One that is added to."""

    def __init__(self, path: str) -> None:
        self._path = path
        self._handle = os.open(path, os.O_RDWR | files.OWN)
        self._length = os.fstat(self._handle).st_size
        """Of the file."""
        self._end, self._torn = self._find_end()

    def _find_end(self) -> tuple[int, bool]:
        """Where the text ends, and whether in the middle of a line: it was cut off there."""
        end = self._length
        while end:
            begin = max(0, end - _PIECE)
            os.lseek(self._handle, begin, os.SEEK_SET)
            text = os.read(self._handle, end - begin).rstrip(b"\0")
            if text:
                return begin + len(text), not text.endswith(b"\n")
            end = begin
        return 0, False

    def add(self, line: bytes) -> None:
        """One more line. OSError ENOSPC where there is no room for it; then it is not there."""
        text = b"\n" * self._torn + line + b"\n"
        if self._end + len(text) > self._length:
            self._make_room(len(text))
        self._torn = True
        os.lseek(self._handle, self._end, os.SEEK_SET)
        if files.append(self._handle, text):
            self._cut(self._end)
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), self._path)
        self._end += len(text)
        self._length = max(self._length, self._end)
        files.sync(self._handle)
        self._torn = False

    def _make_room(self, length: int) -> None:
        """As much as there is: on a full volume the line itself asks for what it needs."""
        os.lseek(self._handle, self._length, os.SEEK_SET)
        wanted = max(0, self._end + length - self._length) + _PIECE
        left = files.append(self._handle, bytes(wanted))
        if left:
            self._cut(self._length)
            return
        self._length += wanted
        files.sync(self._handle)

    def _cut(self, length: int) -> None:
        os.ftruncate(self._handle, length)
        self._length = length

    def close(self) -> None:
        """What was not needed of its room is given back."""
        try:
            if self._length > self._end:
                self._cut(self._end)
        finally:
            os.close(self._handle)
