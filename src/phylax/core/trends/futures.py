"""What may become of a volume: many possible futures, and when they cross a level.

Each future goes on as the volume has filled: its drift is drawn from what the drift may be, its
changes from what they were, sudden ones come as often as they came, cleanings go on. Of all
futures one in ten crosses before `soonest`, half before `likely`, one in ten after `latest`.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from phylax.core.trends.filling import Filling
from phylax.core.trends.outlook import CHANCE, HORIZON_DAYS

Floats = NDArray[np.float32]
_FUTURES = 256
_JUMPS = 48
_OFTEN = 4
_SHARES = ((1 - CHANCE) / 2, 0.5, (1 + CHANCE) / 2)
_RATES_CHANGE = 0.03
"""Standard deviation by which the drift of one month differs from the last, as a share of what
moves on a volume in a day: nothing goes on for ever as it did."""
DAYS = np.concatenate(
    [
        np.arange(1, 31),
        np.arange(33, 91, 3),
        np.arange(97, 366, 7),
        np.arange(380, HORIZON_DAYS + 1, 14),
    ]
).astype(np.float32)
_CONE = tuple(
    int(np.searchsorted(DAYS, day)) for day in (1, 3, 7, 14, 21, 30, 45, 60, 90, 120, 180, 270, 365)
)


@dataclass(frozen=True)
class Draws:
    """Chance, drawn once for all volumes: normal and uniform numbers for every future."""

    normal: Floats
    """For the drift, one for each future."""
    square: Floats
    """For the doubt about the spread: a normal and chi-square's share of it."""
    walk: Floats
    """Brownian motion at each of `DAYS`."""
    turn: Floats
    """Brownian motion summed up: what a drift that itself wanders adds."""
    arrival: Floats
    """Arrival times of unit rate."""
    choice: Floats
    often: Floats
    """How often jumps may really come, against what was counted, by count and future."""


@lru_cache(maxsize=2)
def draws(seed: int) -> Draws:
    """The chance that goes with a seed; the same for the same seed."""
    random = np.random.default_rng(seed)
    steps = np.diff(DAYS, prepend=0)
    half = _FUTURES // 2

    def both(drawn: NDArray[np.float64]) -> Floats:
        """Each future with its mirror image: halves the error of the middle."""
        return np.concatenate([drawn, -drawn]).astype(np.float32)

    normal = both(random.standard_normal(half))
    walk = both(np.cumsum(random.standard_normal((half, len(DAYS))) * np.sqrt(steps), axis=1))
    slope = np.cumsum(random.standard_normal((half, len(DAYS))) * np.sqrt(steps / 30), axis=1)
    turn = both(np.cumsum(slope * steps, axis=1))
    square = random.standard_normal((4, _FUTURES)).astype(np.float32) ** 2
    arrival = np.cumsum(random.exponential(size=(_FUTURES, _JUMPS)), axis=1).astype(np.float32)
    choice = random.random((_FUTURES, _JUMPS)).astype(np.float32)
    often = np.stack([random.gamma(n, 1 / n, _FUTURES) for n in range(1, _OFTEN + 1)])
    return Draws(normal, square.mean(axis=0), walk, turn, arrival, choice, often.astype(np.float32))


class Range(NamedTuple):
    """Days from now; infinite where it lies beyond the horizon."""

    soonest: float
    likely: float
    latest: float


@dataclass(frozen=True)
class Futures:
    """Used bytes in each future (row) after each of `DAYS` (column)."""

    used: Floats

    def crossing(self, level: float) -> Range:
        """When they first reach a level."""
        above = self.used >= level
        first = above.argmax(axis=1)
        rows = np.arange(len(first))
        crosses = above[rows, first]
        before = np.maximum(first - 1, 0)
        low, high = self.used[rows, before], self.used[rows, first]
        share = np.clip((level - low) / np.maximum(high - low, 1.0), 0, 1)
        earlier = np.where(first > 0, DAYS[before], 0)
        day = earlier + np.where(first > 0, share, 1.0) * (DAYS[first] - earlier)
        days = np.sort(np.where(crosses, day, np.inf))
        return Range(*(float(days[int(share * (len(days) - 1))]) for share in _SHARES))

    def cone(self) -> list[tuple[float, float, float, float]]:
        """(days from now, low, likely, high) of used bytes at a dozen times."""
        chosen = np.sort(self.used[:, _CONE], axis=0)
        rows = [int(share * (len(chosen) - 1)) for share in _SHARES]
        return [
            (float(DAYS[column]), *(float(chosen[row, number]) for row in rows))  # type: ignore[misc]
            for number, column in enumerate(_CONE)
        ]


def futures(filling: Filling, chance: Draws) -> Futures:
    """Many futures of a volume that goes on filling as it did."""
    freedom = max(3.0, filling.weeks - 1)
    # the fewer weeks, the heavier the tails of what the drift may be
    heavy = np.sqrt(1 + (chance.square - 1) * min(1.0, 3.0 / freedom)).clip(0.4)
    drift = filling.drift + filling.drift_error * chance.normal / heavy
    size = filling.walk + abs(filling.drift)
    used = (
        filling.level
        + drift[:, None] * DAYS
        + filling.walk * chance.walk
        + _RATES_CHANGE * size * chance.turn
    )
    if filling.jumps:
        used += _jumps(filling, chance)
    if filling.teeth is not None:
        used += _teeth(filling)
    return Futures(used)


def _jumps(filling: Filling, chance: Draws) -> Floats:
    """What sudden changes add up to: as often as they came, each as large as one that came."""
    count = len(filling.jumps)
    # how often they come is as uncertain as so small a count is; a single one may stay alone
    share = (1 - 0.5 / count) * chance.often[min(count, _OFTEN) - 1]
    often = count / max(filling.jump_days, 60.0) * np.maximum(share, 1e-6)[:, None]
    sizes = np.array([jump.size for jump in filling.jumps], dtype=np.float32)
    times = chance.arrival / often
    column = np.searchsorted(DAYS, times.ravel())
    row = np.repeat(np.arange(len(times)), times.shape[1])
    size = sizes[(chance.choice * len(sizes)).astype(int)].ravel()
    inside = column < len(DAYS)
    cells = np.bincount(
        row[inside] * len(DAYS) + column[inside],
        weights=size[inside],
        minlength=len(times) * len(DAYS),
    )
    added: Floats = np.cumsum(cells.reshape(len(times), len(DAYS)), axis=1, dtype=np.float32)
    return added


def _teeth(filling: Filling) -> Floats:
    """How high the tooth stands on each day, cleanings going on as they did."""
    assert filling.teeth is not None
    since = filling.now - filling.teeth.last + DAYS
    every = max(filling.teeth.every, 1.0)
    # a step that a tooth's point falls into stands as high as the point
    before = since - np.diff(DAYS, prepend=0)
    height = np.where(since // every > before // every, every, since % every)
    return (filling.teeth.rate * height).astype(np.float32)
