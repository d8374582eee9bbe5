"""A file that one process holds at a time."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from phylax.agent import files

_PAUSE = 0.05

if sys.platform == "win32":
    import msvcrt

    def _take(handle: int) -> None:
        msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)

else:
    import fcntl

    def _take(handle: int) -> None:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)


class TakenError(Exception):
    """Another process holds the file."""


@contextmanager
def locked(path: Path, *, wait: bool = False) -> Iterator[None]:
    """Hold a file, made where there is none. TakenError where another process does, unless it is
    waited for; OSError where it cannot be opened."""
    handle = os.open(path, os.O_RDWR | os.O_CREAT | files.OWN, 0o600)
    try:
        while True:
            try:
                _take(handle)
                break
            except OSError:
                if not wait:
                    raise TakenError(str(path)) from None
                time.sleep(_PAUSE)
        yield
    finally:
        os.close(handle)


@contextmanager
def alone_in(folder: Path) -> Iterator[None]:
    """Wait until no other process works in a folder. Takes no room where folders can be locked."""
    if sys.platform == "win32":
        with locked(folder / "lock", wait=True):
            yield
    else:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX)
            yield
        finally:
            os.close(handle)
