"""Since when this agent is at work, and when its machine slept meanwhile.

What a machine slept is the difference of two clocks of the system: one goes on while it sleeps, the
other stands still.
"""

from __future__ import annotations

import ctypes
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from phylax.agent.machines import MachineKind
from phylax.agent.platform.uptime import running
from phylax.core.protocol import Asleep, Awake

_WORTH_TELLING = 60.0


def slept_so_far() -> float:
    """Seconds that the machine has slept since it was started; 0 where the system cannot say."""
    if sys.platform == "win32":
        return _windows()
    if hasattr(time, "CLOCK_BOOTTIME"):
        return running() - time.clock_gettime(time.CLOCK_MONOTONIC)
    return 0.0


def _windows() -> float:
    kernel: ctypes.CDLL = ctypes.WinDLL("kernel32")  # type: ignore[attr-defined,unused-ignore]
    awake = ctypes.c_ulonglong()
    if not kernel.QueryUnbiasedInterruptTime(ctypes.byref(awake)):
        return 0.0
    return running() - awake.value / 1e7


class SleepWatch:
    """Notices, while the agent works, what its machine slept."""

    def __init__(
        self,
        machine: MachineKind,
        slept: Callable[[], float] = slept_so_far,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._machine = machine
        self._slept = slept
        self._now = now
        self._since = now()
        self._known = slept()
        self._untold: list[Asleep] = []

    def look(self) -> None:
        """Has it slept since the last survey? To be asked every few seconds."""
        total, now = self._slept(), self._now()
        gone = total - self._known
        if gone < _WORTH_TELLING:
            return
        self._known = total
        begin = max(self._since, now - timedelta(seconds=gone))
        self._untold.append(Asleep(begin=begin, end=now))

    def told(self, clock_doubt: str = "") -> Awake:
        """What is to be told with the next report; each sleep once."""
        self.look()
        untold, self._untold = tuple(self._untold[-1000:]), []
        return Awake(
            at=max(self._now(), self._since),
            since=self._since,
            booted_at=self._machine.booted_at(),
            slept=untold,
            clock_doubt=clock_doubt[:300],
        )
