"""How long a check still takes, learnt from earlier runs and corrected by the one under way."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import median
from typing import NamedTuple

_TRUSTED = 0.5
"""From this share of the work on, only the run itself is believed."""


class Ran(NamedTuple):
    """An earlier run."""

    units: int
    seconds: float


def expected(earlier: Sequence[Ran], units: int | None = None) -> float | None:
    """Seconds that a run of so many units takes; of as many as before, if that is not known. None:
    nothing is known of it."""
    known = [ran for ran in earlier if ran.seconds > 0]
    if not known:
        return None
    if units is None or not all(ran.units for ran in known):
        return median(ran.seconds for ran in known)
    return units * median(ran.seconds / ran.units for ran in known)


def left(done: int, units: int, seconds: float, earlier: Sequence[Ran] = ()) -> float | None:
    """Seconds that are left, where `done` of `units` took so many. None: it cannot be told yet.

    In the first half what was learnt and what is seen are weighed by how much is done, for a run
    begins with what is quick or slow by chance; in the second half the run itself counts.
    """
    if units <= 0 or done >= units:
        return 0.0 if units > 0 else None
    seen = None if done <= 0 or seconds <= 0 else seconds / done * (units - done)
    before = expected(earlier, units)
    share = done / units
    if before is None or (seen is not None and share >= _TRUSTED):
        return seen
    learnt = before * (1 - share)
    if seen is None:
        return learnt
    weight = share / _TRUSTED
    return weight * seen + (1 - weight) * learnt
