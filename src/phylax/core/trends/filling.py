"""How fast a volume fills: from daily levels and known cleanings to a rate with its uncertainty.

A volume that is cleaned again and again draws a saw's teeth. They are taken out first, by what
cleanings gave back for each day they had been apart; what is left is a walk with a drift, with
noise on each level and now and then a sudden change. Drift and spread are measured robustly, over
the longest recent stretch in which the drift was the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

Floats = NDArray[np.float64]

LONGEST_SILENCE = 21.0
"""Days without a reading after which the earlier ones say nothing of now."""
TOO_OLD = 14.0
LEAST_DAYS = 7.0
LEAST_STEPS = 5
_WINDOWS = (14.0, 21.0, 28.0, 42.0, 56.0, 84.0, 120.0)
_APART = 2.5
"""Two stretches filled differently where their rates are so many standard errors apart."""
_SUDDEN = 6.0
"""Standard deviations, of a normal one, beyond which a day's change is no part of the filling."""
_SUDDEN_SHARE = 0.01
"""And it is at least this share of the capacity."""
_NEIGHBOURS = 10
_BURSTS = 5
"""So many sudden changes are how a volume fills, not exceptions."""
_CLEANINGS_COUNT = 6
_FLOOR_SHARE = 2e-5
_TEETH_DIFFER = 0.5
"""What one cleaning takes may differ from the next by this share."""
_IN_PASSING = 0.1
"""A cleaning that took less than this share of what one usually takes, of one small category say,
was none: what gathers went on gathering."""
_NO_TOOTH = 3e-4
"""A cleaning that gives back less than this share of the capacity leaves no tooth."""


class Level(NamedTuple):
    """Used bytes at a time, in days."""

    at: float
    used: float


class Freed(NamedTuple):
    """What a cleaning gave back on a volume, at a time in days."""

    at: float
    size: float


class Jump(NamedTuple):
    """A sudden change, seen between two levels."""

    at: float
    size: float


class NotYet(Exception):
    """Nothing can be said; the message says why."""


@dataclass(frozen=True)
class SawtoothFit:
    """The cleanings that go on: what they take for each day they are apart, and how far apart."""

    rate: float
    every: float
    last: float


@dataclass(frozen=True)
class Filling:
    """A volume's way of filling. Bytes and days; `now` is the time of the newest level."""

    now: float
    used: float
    level: float
    """Used now, without the present tooth and smoothed of noise."""
    drift: float
    """Net of recurring cleanings, a day."""
    drift_error: float
    weeks: float
    """What the drift stands on."""
    walk: float
    """Standard deviation of a day's true change."""
    noise: float
    """Standard deviation of a level around the truth."""
    teeth: SawtoothFit | None
    jumps: tuple[Jump, ...] = ()
    jump_days: float = 0.0
    """Over so many days the jumps were counted."""
    repeats: bool = False
    """Jumps are so frequent that they are counted into drift and walk."""
    sudden: tuple[Jump, ...] = ()
    since: float = 0.0
    """From when on the drift was the same."""
    drift_before: float | None = None
    """What it was before; None where it was never different."""

    @property
    def gross(self) -> float:
        """Between cleanings, a day."""
        return self.drift + (self.teeth.rate if self.teeth else 0.0)


def filling(
    levels: Sequence[Level], cleanings: Sequence[Freed], capacity: float, now: float
) -> Filling:
    """How a volume fills; NotYet where its levels do not say. Levels and cleanings in order."""
    at, used = _present_stretch(levels, now)
    cleanings = _without_those_in_passing(cleanings)
    teeth = _teeth(cleanings, at[0], at[-1], capacity)
    flat = _without_teeth(at, used, cleanings, teeth)
    span, change = np.diff(at), np.diff(flat)
    centre, spread = _usual(change, span)
    off = change - _nearby(change / span, centre) * span
    is_sudden = np.abs(off) > np.maximum(
        _SUDDEN * spread * np.sqrt(np.maximum(span, 1.0)), _SUDDEN_SHARE * capacity
    ) + _unsure(at, cleanings, teeth)
    # a machine that was off did not fill: that is no loss of data
    is_sudden &= (off > 0) | (change < 0)
    sudden = tuple(Jump(at[i + 1], off[i]) for i in np.flatnonzero(is_sudden))
    repeats = len(sudden) >= _BURSTS
    steady = change if repeats else np.where(is_sudden, change - off, change)
    begin, before = _same_drift_since(steady, span, at[-1] - at[1:])
    inside = slice(begin, None)
    drift = float(steady[inside].sum() / span[inside].sum())
    long_run, noise = _spreads(steady - drift * span, span, at[1:], begin)
    floor = _FLOOR_SHARE * capacity
    walk = max(floor, np.sqrt(long_run))
    days = float(span[inside].sum())
    return Filling(
        now=float(at[-1]),
        used=float(used[-1]),
        level=_smoothed(flat, at, drift, walk, noise, after=sudden[-1].at if sudden else -np.inf),
        drift=drift,
        drift_error=float(walk / np.sqrt(days)),
        weeks=days / 7,
        walk=float(walk),
        noise=float(noise),
        teeth=teeth,
        jumps=() if repeats else sudden,
        jump_days=float(at[-1] - at[0]),
        repeats=repeats,
        sudden=sudden,
        since=float(at[begin]),
        drift_before=before,
    )


def _present_stretch(levels: Sequence[Level], now: float) -> tuple[Floats, Floats]:
    """Times and used bytes since the last long silence."""
    if not levels:
        raise NotYet("it was never read")
    at = np.array([level.at for level in levels])
    used = np.array([level.used for level in levels])
    if now - at[-1] > TOO_OLD:
        raise NotYet(f"it was last read {now - at[-1]:.0f} days ago")
    silences = np.flatnonzero(np.diff(at) > LONGEST_SILENCE)
    if len(silences):
        at, used = at[silences[-1] + 1 :], used[silences[-1] + 1 :]
    if at[-1] - at[0] < LEAST_DAYS or len(at) <= LEAST_STEPS:
        since = " again" if len(silences) else ""
        raise NotYet(f"it has been read{since} for {_days(at[-1] - at[0])} only; a week is needed")
    return at, used


def _days(span: float) -> str:
    whole = int(span)
    return "less than a day" if whole < 1 else "1 day" if whole == 1 else f"{whole} days"


def _without_those_in_passing(cleanings: Sequence[Freed]) -> Sequence[Freed]:
    if len(cleanings) < 3:
        return cleanings
    usual = float(np.median([cleaning.size for cleaning in cleanings]))
    return [cleaning for cleaning in cleanings if cleaning.size >= _IN_PASSING * usual]


def _teeth(
    cleanings: Sequence[Freed], begin: float, end: float, capacity: float
) -> SawtoothFit | None:
    """The cleanings that go on; None where there are too few, or they have ceased."""
    mine = [cleaning for cleaning in cleanings if begin <= cleaning.at <= end][-_CLEANINGS_COUNT:]
    if len(mine) < 2:
        return None
    apart = np.diff([cleaning.at for cleaning in mine])
    every = float(np.median(apart))
    if every < 0.5 or end - mine[-1].at > 2 * every + 1:
        return None
    # each cleaning takes what gathered since the one before
    rates = np.array([cleaning.size for cleaning in mine[1:]]) / np.maximum(apart, 0.5)
    rate = float(np.median(rates)) if len(rates) > 2 else float(rates.mean())
    if rate * every < _NO_TOOTH * capacity:
        return None
    return SawtoothFit(max(0.0, rate), every, mine[-1].at)


def _without_teeth(
    at: Floats, used: Floats, cleanings: Sequence[Freed], teeth: SawtoothFit | None
) -> Floats:
    times = np.array([cleaning.at for cleaning in cleanings])
    before = np.searchsorted(times, at, side="right")
    if teeth is None:
        given_back = np.concatenate([[0.0], np.cumsum([cleaning.size for cleaning in cleanings])])
        added: Floats = used + given_back[before] - given_back[before[-1]]
        return added
    # before the first known one, a tooth as long as any
    last = np.concatenate([[times[0] - teeth.every], times])[before]
    flat: Floats = used - teeth.rate * np.minimum(at - last, 2 * teeth.every)
    return flat


def _unsure(at: Floats, cleanings: Sequence[Freed], teeth: SawtoothFit | None) -> Floats:
    """By how much a step with a cleaning in it may be off: not all take the same."""
    cleaned = np.searchsorted(np.array([cleaning.at for cleaning in cleanings]), at, side="right")
    share = _TEETH_DIFFER * teeth.rate * teeth.every if teeth else 0.0
    unsure: Floats = np.where(np.diff(cleaned) > 0, share, 0.0)
    return unsure


def _usual(change: Floats, span: Floats) -> tuple[float, float]:
    """Median change a day, and the spread of a day's change as if it were normal."""
    order = np.argsort(change / span)
    weight = np.cumsum(span[order])
    middle = order[np.searchsorted(weight, weight[-1] / 2)]
    centre = float(change[middle] / span[middle])
    off = np.abs(change - centre * span) / np.sqrt(np.maximum(span, 1.0))
    return centre, float(1.4826 * np.median(off))


def _nearby(rates: Floats, centre: float) -> Floats:
    """The median of each rate's neighbours, on that side where it is more like the rate itself.

    A rate that changes for good is like its neighbours on one side: it is no jump.
    """
    n = _NEIGHBOURS
    if len(rates) <= 2 * n:
        return np.full(len(rates), centre)
    medians = np.median(sliding_window_view(rates, n), axis=1)
    before = np.concatenate([np.full(n, medians[0]), medians[:-1]])
    after = np.concatenate([medians[1:], np.full(n, medians[-1])])
    nearest: Floats = np.where(np.abs(rates - before) < np.abs(rates - after), before, after)
    return nearest


def _same_drift_since(change: Floats, span: Floats, age: Floats) -> tuple[int, float | None]:
    """The first step of the longest recent stretch with one and the same drift; the one before."""
    # running sums, so that each stretch is a difference of two of them
    terms = np.stack([span, change, change * change, change * span, span * span])
    sums = np.concatenate([np.zeros((5, 1)), np.cumsum(terms, axis=1)], axis=1)
    youth = -age

    def part(young: float, old: float) -> tuple[float, float, float]:
        begin, end = np.searchsorted(youth, (-old, -young), side="right").tolist()
        number = end - begin
        days, total, squares, mixed, spans = (sums[:, end] - sums[:, begin]).tolist()
        if days < 0.7 * min(old - young, 7.0) or number < 3:
            return 0.0, np.inf, days
        rate = total / days
        off = max(0.0, squares - 2 * rate * mixed + rate * rate * spans)
        # daily noise on the levels cancels out over a stretch, all but its two ends
        variance = off / (number - 1) / (days / number)
        return rate, variance / days, days

    oldest = float(age[0])
    best = _WINDOWS[0]
    before = None
    for wider in _WINDOWS[1:]:
        if best >= oldest:
            break
        rate, error, _ = part(0.0, best)
        older, older_error, days = part(best, wider)
        if days < 5.0 or not np.isfinite(older_error):
            older, older_error, days = part(best, wider + 14.0)
        if np.isfinite(older_error) and abs(older - rate) > _APART * np.sqrt(error + older_error):
            old = (age >= best) & (age < best + 60)
            before = _usual(change[old], span[old])[0] if old.sum() > 2 else older
            break
        best = wider
    return int(np.argmax(age < best)), before


def _spreads(off: Floats, span: Floats, at: Floats, begin: int) -> tuple[float, float]:
    """Variance of a day's true change over the long run, and standard deviation of the noise.

    Noise on a level goes up one day and down the next: it shows as a negative product of
    neighbouring changes. The true change is measured over weeks, where noise hardly counts.
    """
    inside = off[begin:]
    days = span[begin:]
    single = float(np.mean(inside**2 / np.maximum(days, 1.0)))
    product = float(np.mean(inside[1:] * inside[:-1])) if len(inside) > 3 else 0.0
    noise = min(max(0.0, -product), single / 2)
    week = np.floor((at[-1] - at[begin:]) / 7).astype(int)
    sums = np.bincount(week, weights=inside)
    lengths = np.bincount(week, weights=days)
    whole = lengths > 4
    rest = max(single - 2 * noise, 0.05 * single)
    if whole.sum() >= 4:
        by_week = float(np.mean(sums[whole] ** 2 / lengths[whole])) - 2 * noise / 7
        share = min(1.0, whole.sum() / 10)
        rest = max(0.05 * single, share * by_week + (1 - share) * rest)
    return rest, float(np.sqrt(noise))


def _smoothed(
    flat: Floats, at: Floats, drift: float, walk: float, noise: float, *, after: float
) -> float:
    """The newest level without its noise: the steady state of a Kalman filter for a local level."""
    if noise <= 0:
        return float(flat[-1])
    q = (walk / noise) ** 2
    gain = (-q + np.sqrt(q * q + 4 * q)) / 2
    recent = at >= max(after, at[-1] - 30)
    ahead = flat[recent] + drift * (at[-1] - at[recent])
    weights = (1 - gain) ** np.arange(len(ahead) - 1, -1, -1)
    return float((weights * ahead).sum() / weights.sum())
