"""Nothing is switched on Windows yet, and it says so."""

from __future__ import annotations

import errno

from phylax.core.tuning.pieces import State


def read(top: str, path: str) -> State:
    raise OSError(errno.ENOTSUP, "nothing is switched on Windows yet", path)


def write(top: str, path: str, state: State) -> None:
    raise OSError(errno.ENOTSUP, "nothing is switched on Windows yet", path)


def sweep(top: str, path: str) -> None:
    """Nothing was ever written."""
