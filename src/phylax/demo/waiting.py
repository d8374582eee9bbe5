"""Waiting for the demo's own processes: as long as one of them moves, however slow the machine is.

A process moves while it uses processor time or its log grows.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path

import psutil

STILL = 300.0
"""Seconds without any movement after which nobody waits any longer."""
_SAY_EVERY = 10.0
_LOOK_EVERY = 0.1


class StillError(Exception):
    """Nothing has moved for so long that there is nothing to wait for."""


def wait_for(
    what: str,
    is_there: Callable[[], bool],
    processes: Sequence[int],
    logs: Sequence[Path],
    *,
    say: Callable[[str], None],
    still: float = STILL,
    clock: Callable[[], float] = time.monotonic,
    pause: Callable[[float], None] = time.sleep,
) -> None:
    """Return when `is_there()`; it may raise to end the waiting. StillError where none of the
    processes moved for `still` seconds. Every ten seconds `say` hears what is waited for."""
    began = moved_at = said_at = clock()
    before = _movement(processes, logs)
    while not is_there():
        now = clock()
        movement = _movement(processes, logs)
        if movement != before:
            before, moved_at = movement, now
        if now - moved_at >= still:
            raise StillError(f"{what}: nothing has moved for {now - moved_at:.0f} seconds")
        if now - said_at >= _SAY_EVERY:
            said_at = now
            say(f"Waiting for {what}, {now - began:.0f} s so far; the machine is busy.")
        pause(_LOOK_EVERY)


def _movement(processes: Sequence[int], logs: Sequence[Path]) -> tuple[float, int]:
    """Seconds of processor time of all processes, and bytes of all logs."""
    used = 0.0
    for pid in processes:
        try:
            times = psutil.Process(pid).cpu_times()
        except psutil.Error:
            continue
        used += times.user + times.system
    return used, sum(log.stat().st_size for log in logs if log.exists())
