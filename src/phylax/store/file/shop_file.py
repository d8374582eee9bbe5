"""The file of a shop in its data directory, and having it alone."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from filelock import FileLock, Timeout

FILE = "phylax.sqlite3"


class NoShopError(Exception):
    """There is no shop's file, and none is made by the way."""


class HeldError(Exception):
    """Another process has the shop's file, and which one."""


@contextmanager
def alone(data: Path, doing: str) -> Iterator[None]:
    """Have the shop's file alone: of two services each would do everything once more."""
    if not (data / FILE).is_file():
        raise NoShopError(
            f"There is no shop in {data}. Open one with 'phylax shop open --data {data}', or put a "
            "backup there with 'phylax backup restore'."
        )
    words = data / "in-use.txt"
    lock = FileLock(data / "in-use.lock", timeout=0, mode=0o600)
    try:
        lock.acquire()
    except Timeout:
        holder = words.read_text("utf-8") if words.exists() else "another process"
        raise HeldError(f"{data} is in use by {holder.strip()}.") from None
    try:
        words.write_text(f"{doing}, process {os.getpid()}\n", "utf-8")
        yield
    finally:
        words.unlink(missing_ok=True)
        lock.release()
