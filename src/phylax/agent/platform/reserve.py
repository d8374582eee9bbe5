"""Room kept on the agent's own volume, to be given up when the very disk to clean is full.

Several small files, so that blocks as well as file numbers come free.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

FULL = (errno.ENOSPC, errno.EDQUOT)
T = TypeVar("T")
FILES, EACH = 8, 64 * 1024


class Reserve:
    """A folder of files that hold nothing but room."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.keep()

    def keep(self) -> None:
        """Make the reserve whole again, as far as there is room."""
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            for number in range(FILES):
                path = self._folder / str(number)
                if path.exists() and path.stat().st_size == EACH:
                    continue
                try:
                    # random, so that no file system stores it in less
                    path.write_bytes(os.urandom(EACH))
                except OSError:
                    path.unlink(missing_ok=True)
                    raise

    def lend(self, action: Callable[[], T]) -> T:
        """Do something that needs room; on a full volume once more with the reserve given up."""
        try:
            return action()
        except OSError as error:
            if error.errno not in FULL or not self.give_up():
                raise
            return action()

    def give_up(self) -> bool:
        """Free the room; False where there was none left to free."""
        paths = list(self._folder.iterdir()) if self._folder.is_dir() else []
        for path in paths:
            path.unlink(missing_ok=True)
        return bool(paths)
