"""How categories come back after a cleaning, from one look to the next."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from statistics import median, quantiles
from typing import NamedTuple

from phylax.core.trends.outlook import DAY, Rate, Regrowth

BACK = 0.8
"""A category is back when it holds this share of what a cleaning took."""
_CYCLES = 12
_LEAST_DAYS = 0.5


class Seen(NamedTuple):
    """What a category held when it was looked at, at a time in seconds."""

    at: int
    holds: int
    after_cleaning: bool
    """A second look, straight after a cleaning."""


class _Cycle(NamedTuple):
    removed: int
    rate: float
    back_in: float | None


def regrowth(category: str, name: str, looks: Sequence[Seen]) -> Regrowth | None:
    """How a category comes back, from all looks at one machine in order; None: not seen yet."""
    cycles = list(_cycles(looks))[-_CYCLES:]
    if not cycles:
        return None
    rates = [cycle.rate for cycle in cycles]
    low, high = min(rates), max(rates)
    if len(rates) > 4:
        tenths = quantiles(rates, n=10)
        low, high = tenths[0], tenths[-1]
    backs = [cycle.back_in for cycle in cycles if cycle.back_in is not None]
    return Regrowth(
        category=category,
        name=name,
        cleanings=len(cycles),
        rate=Rate(low=int(low), likely=int(median(rates)), high=int(high)),
        removed=int(median(cycle.removed for cycle in cycles)),
        # mostly it must have come back for this to be said
        back_in_days=round(median(backs)) if 2 * len(backs) > len(cycles) else None,
    )


def _cycles(looks: Sequence[Seen]) -> Iterable[_Cycle]:
    """From each cleaning that took something to the last survey before the next one."""
    for number, clean in enumerate(looks):
        if not clean.after_cleaning or number == 0:
            continue
        removed = looks[number - 1].holds - clean.holds
        if removed <= 0:
            continue
        later = []
        for look in looks[number + 1 :]:
            if look.after_cleaning:
                break
            later.append(look)
        if not later or later[-1].at - clean.at < _LEAST_DAYS * DAY:
            continue
        last = later[-1]
        rate = (last.holds - clean.holds) / ((last.at - clean.at) / DAY)
        back = next(
            (
                later_look
                for later_look in later
                if later_look.holds - clean.holds >= BACK * removed
            ),
            None,
        )
        yield _Cycle(removed, max(0.0, rate), back and (back.at - clean.at) / DAY)


def grown_between(before: dict[str, int], after: dict[str, int]) -> list[tuple[str, int]]:
    """What categories grew by from one look to another, most first, then what shrank."""
    keys = before.keys() | after.keys()
    changes = ((key, after.get(key, 0) - before.get(key, 0)) for key in keys)
    return sorted(
        ((k, size) for k, size in changes if size), key=lambda grown: (-grown[1], grown[0])
    )
