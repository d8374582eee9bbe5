"""How fast work goes on a machine, and how long it will take still."""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

WINDOW = 10.0
"""Seconds over which the rate is taken: long enough to be steady, short enough to be of now."""
SETTLED = 2.0
"""Seconds before anything is said of the time left."""
LONGEST = 7 * 86400


class _Sample(NamedTuple):
    at: float
    items: int
    size: int


class Pace:
    """Fed with what is done so far, at times in seconds of any one clock."""

    def __init__(self, of_items: int | None, of_size: int | None, started: float) -> None:
        """`of_items` and `of_size` (bytes) are what is expected of the whole step, if known."""
        self._of_items = of_items
        self._of_size = of_size
        self._samples = deque([_Sample(started, 0, 0)])
        self._started = started

    def note(self, at: float, items: int, size: int) -> None:
        """So much is done in all by now."""
        self._samples.append(_Sample(at, items, size))
        while len(self._samples) > 2 and self._samples[1].at <= at - WINDOW:
            self._samples.popleft()

    @property
    def items_per_second(self) -> float | None:
        """Over the last seconds; None before anything is done."""
        first, last = self._samples[0], self._samples[-1]
        passed = last.at - first.at
        return (last.items - first.items) / passed if passed > 0 and last.items else None

    @property
    def seconds_left(self) -> int | None:
        """Of this step, by items or by bytes, whichever takes longer; None while it cannot be
        said: too early, nothing expected, or standing still."""
        first, last = self._samples[0], self._samples[-1]
        if last.at - self._started < SETTLED:
            return None
        passed = last.at - first.at
        guesses = []
        for of, done, before in (
            (self._of_items, last.items, first.items),
            (self._of_size, last.size, first.size),
        ):
            if of and done > before:
                guesses.append(max(0, of - done) * passed / (done - before))
        if not guesses or max(guesses) > LONGEST:
            return None
        return round(max(guesses))
