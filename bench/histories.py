"""Made-up histories of volumes whose future is known, for judging forecasts.

Each is lived through by the hour, with the readings a machine would have sent until now; what
happens afterwards is the truth that a forecast did not see. Bytes are GiB, times are days.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

PAST, AHEAD = 150, 730
_HOURS = (PAST + AHEAD) * 24


@dataclass(frozen=True)
class History:
    """What was read up to day `PAST`, and the true level at the end of each later day."""

    capacity: float
    read: list[tuple[float, float]]
    """(day, used) for each reading."""
    cleaned: list[tuple[float, float]]
    """(day, freed) for each cleaning so far."""
    truth: np.ndarray
    """The highest used of each day to come."""
    began: float = 0.0
    """The day from which the volume is the one it is."""

    def crossing(self, level: float) -> float:
        """Days from now until the true level is reached; infinite if it is not."""
        above = np.flatnonzero(self.truth >= level)
        return float(above[0] + 1) if len(above) else np.inf


@dataclass
class Life:
    """The parameters of one machine's life."""

    random: np.random.Generator
    rate: np.ndarray = field(default_factory=lambda: np.zeros(_HOURS))
    """Expected growth of each hour, GiB."""
    roughness: float = 0.5
    """Spread of a day's growth, as a share of it."""
    noise: float = 0.02
    """Of a reading, GiB."""
    on: np.ndarray = field(default_factory=lambda: np.ones(_HOURS, dtype=bool))
    jumps: list[tuple[float, float]] = field(default_factory=list)
    junk: float = 0.0
    """GiB a day of what cleanings take."""
    plateau: float = np.inf
    """At most so much of it gathers."""
    every: float = 0.0
    """Days between cleanings."""
    takes: float = 0.9
    began: float = 0.0


def _steady(random: np.random.Generator) -> Life:
    life = Life(random, roughness=random.uniform(0.2, 1.5))
    life.rate += random.uniform(0.03, 1.2) / 24
    return life


def _weekly(random: np.random.Generator) -> Life:
    life = _steady(random)
    day = np.arange(_HOURS) // 24 % 7
    life.rate = np.where(day < 5, life.rate * 7 / 5, 0.0)
    return life


def _bursts(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.rate *= 0.4
    times = np.cumsum(random.exponential(random.uniform(8, 40), size=200))
    sizes = random.lognormal(np.log(random.uniform(1, 6)), 0.6, size=200)
    life.jumps = [(t, s) for t, s in zip(times, sizes, strict=True) if t < PAST + AHEAD]
    return life


def _one_copy(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.jumps = [(random.uniform(PAST - 60, PAST - 2), random.uniform(10, 45))]
    return life


def _cleaned(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.rate *= 0.5
    life.junk = random.uniform(0.1, 2.0)
    life.every = float(random.choice([7, 7, 14, 28]))
    return life


def _gaps(random: np.random.Generator) -> Life:
    life = _steady(random)
    at = 0.0
    while at < PAST + AHEAD:
        at += random.uniform(4, 25)
        away = random.uniform(1, 11)
        life.on[int(at * 24) : int((at + away) * 24)] = False
        at += away
    hour = np.arange(_HOURS) % 24
    life.on &= (hour >= 9) & (hour < 18)
    return life


def _noisy(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.noise = random.uniform(0.5, 4.0)
    return life


def _new_rate(random: np.random.Generator) -> Life:
    life = _steady(random)
    turn = int(random.uniform(PAST - 90, PAST - 15)) * 24
    life.rate[turn:] *= random.choice([0.2, 3.0, 5.0])
    return life


def _resized(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.began = random.uniform(PAST - 80, PAST - 20)
    return life


def _level(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.rate *= 0.02
    life.roughness = random.uniform(5, 40)
    return life


def _cleaned_and_bursts(random: np.random.Generator) -> Life:
    life = _bursts(random)
    life.junk, life.every = random.uniform(0.2, 1.0), float(random.choice([7, 14]))
    return life


def _full_caches(random: np.random.Generator) -> Life:
    life = _cleaned(random)
    life.junk, life.plateau, life.every = 2.5, random.uniform(6, 15), 28.0
    return life


def _gathers_speed(random: np.random.Generator) -> Life:
    life = _steady(random)
    life.rate *= np.linspace(0.6, 1.4, PAST * 24 + AHEAD * 24)
    return life


def _terms(random: np.random.Generator) -> Life:
    life = _weekly(random)
    week = (np.arange(_HOURS) // (24 * 7) + random.integers(0, 14)) % 14
    life.rate = np.where(week < 12, life.rate, 0.0)
    life.on &= week < 12
    return life


def _copies_and_deletes(random: np.random.Generator) -> Life:
    life = _steady(random)
    at = random.uniform(0, 30)
    while at < PAST + AHEAD:
        size = random.uniform(8, 30)
        life.jumps += [(at, size), (at + random.uniform(1, 10), -size)]
        at += random.uniform(20, 60)
    return life


KINDS: dict[str, Callable[[np.random.Generator], Life]] = {
    "steady": _steady,
    "weekly rhythm": _weekly,
    "bursts": _bursts,
    "one big copy": _one_copy,
    "cleaned": _cleaned,
    "gaps": _gaps,
    "noise": _noisy,
    "rate changed": _new_rate,
    "resized": _resized,
    "hardly grows": _level,
}
"""Kinds by which the method was made, with other numbers."""
UNSEEN: dict[str, Callable[[np.random.Generator], Life]] = {
    "cleaned, with bursts": _cleaned_and_bursts,
    "caches full again": _full_caches,
    "gathers speed": _gathers_speed,
    "school terms": _terms,
    "copies, deletes": _copies_and_deletes,
}
"""Kinds that were never looked at while the method was made."""


def history(kind: str, seed: int) -> History:
    """A life of a kind: always the same for the same seed."""
    random = np.random.default_rng([seed, *kind.encode()])
    life = (KINDS | UNSEEN)[kind](random)
    days = _HOURS // 24
    # a day's growth varies as a whole, with what its hours add
    size = np.sqrt(24) * np.sqrt(np.mean(life.rate**2)) if life.rate.any() else 0
    by_day = np.repeat(random.normal(0, 1, days), 24) * life.rate * life.roughness
    own = np.cumsum(life.rate + by_day + random.normal(0, size * 0.2, _HOURS) * (life.rate > 0))
    for at, jump in life.jumps:
        own[int(at * 24) :] += jump
    junk, cleaned = _junk(life)
    used = own + junk
    capacity = float(random.choice([117, 237, 465, 930]))
    now = PAST * 24
    used += capacity * random.uniform(0.55, 0.885) - used[now - 1]
    read = np.flatnonzero(life.on[:now])
    read = read[read >= life.began * 24]
    noise = random.normal(0, life.noise, len(read))
    return History(
        capacity=capacity,
        read=[((h + 1) / 24, float(used[h] + n)) for h, n in zip(read, noise, strict=True)],
        cleaned=[(at, size) for at, size in cleaned if life.began < at < PAST],
        truth=used[now:].reshape(AHEAD, 24).max(axis=1),
        began=life.began,
    )


def _junk(life: Life) -> tuple[np.ndarray, list[tuple[float, float]]]:
    """What cleanings take, by the hour, and each cleaning's (day, freed)."""
    if not life.junk:
        return np.zeros(_HOURS), []
    junk, level, cleaned = np.zeros(_HOURS), 0.0, []
    days = life.random.uniform(0.3, 1.7, _HOURS // 24)
    due = life.random.uniform(0, life.every)
    for hour in range(_HOURS):
        level = min(life.plateau, level + life.junk / 24 * days[hour // 24])
        if hour / 24 >= due:
            gone = level * life.takes
            cleaned.append((hour / 24, gone))
            level -= gone
            due += life.every
        junk[hour] = level
    return junk, cleaned
