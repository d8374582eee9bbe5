"""How long the machine has been running, sleep included: a clock that nobody can set."""

from __future__ import annotations

import ctypes
import sys
import time

from phylax.core.protocol.trusted_time import AGREE


class ClockStepDetector:
    """Notices that the machine's clock is set while something goes on that counts by it."""

    def __init__(self) -> None:
        self._apart = time.time() - running()

    def moved(self) -> bool:
        """Whether the clock was set since, by more than clocks may differ."""
        return abs(time.time() - running() - self._apart) > AGREE


def running() -> float:
    """Seconds since some fixed time of this run of the machine."""
    if sys.platform == "win32":
        kernel: ctypes.CDLL = ctypes.WinDLL("kernel32")  # type: ignore[attr-defined,unused-ignore]
        kernel.GetTickCount64.restype = ctypes.c_ulonglong
        return float(kernel.GetTickCount64()) / 1e3
    if hasattr(time, "CLOCK_BOOTTIME"):
        return time.clock_gettime(time.CLOCK_BOOTTIME)
    return time.monotonic()
