"""How honest forecasts are: histories whose future is known, against two plain yardsticks.

For each kind of history: how often the truth lies in the stated range (it is meant to in 80 of
100), how wide the range is, and how far the likely day lies from the true one; the same for a
straight line through the last 30 days, and for "it stays as it is". Days beyond two years count as
two years. Nothing is tuned by these seeds, and the kinds marked * were never looked at before.
"""

from __future__ import annotations

import sys

import numpy as np

from bench.histories import AHEAD, KINDS, PAST, UNSEEN, History, history
from phylax.core.trends.filling import Freed, Level, NotYet, filling
from phylax.core.trends.futures import DAYS, Range, draws, futures

EACH = 60
SEED = 20_000


def levels(past: History) -> list[Level]:
    """The last reading of each day, as the store keeps them."""
    last = {int(at - 1e-9): (at, used) for at, used in past.read}
    return [Level(at, used) for at, used in last.values()]


def ours(past: History) -> tuple[Range, float]:
    """The range of the crossing, and the likely level in 30 days."""
    chance = draws(1)
    found = filling(
        [one for one in levels(past) if one.at > PAST - 120],
        [Freed(at, size) for at, size in past.cleaned if at > PAST - 120],
        past.capacity,
        PAST,
    )
    ahead = futures(found, chance)
    month = int(np.searchsorted(DAYS, 30))
    return ahead.crossing(0.9 * past.capacity), float(np.median(ahead.used[:, month]))


def straight_line(past: History) -> tuple[float, float]:
    """Crossing and level in 30 days by least squares through the readings of the last 30 days."""
    recent = [(at, used) for at, used in past.read if at > PAST - 30]
    if len(recent) < 2:
        return np.inf, past.read[-1][1]
    slope, height = np.polyfit(*np.array(recent).T, 1)
    now = slope * PAST + height
    ahead = (0.9 * past.capacity - now) / slope if slope > 0 else np.inf
    return max(0.0, ahead), float(now + 30 * slope)


def main(kinds: dict[str, object] | None = None, seed: int = SEED, each: int = EACH) -> None:
    print(f"{'':22} covers  not yet | off by, days (median)        | in 30 days, % of the volume")
    print(f"{'kind':22} of 100          | ours    line    stays  wide | ours    line    stays")
    sums: list[list[float]] = []
    for kind in kinds or (KINDS | UNSEEN):
        rows, silent = [], 0
        for number in range(each):
            past = history(kind, seed + number)
            truth = past.crossing(0.9 * past.capacity)
            day30 = float(past.truth[29])
            try:
                said, level = ours(past)
            except NotYet:
                silent += 1
                continue
            line, line_level = straight_line(past)
            # half a day each way: the truth is known to the day
            inside = said.soonest - 1 <= truth <= said.latest + 1
            cut = [min(x, AHEAD) for x in (truth, said.likely, line, said.soonest, said.latest)]
            rows.append([
                inside, abs(cut[1] - cut[0]), abs(cut[2] - cut[0]), AHEAD - cut[0],
                cut[4] - cut[3],
                *(100 * abs(x - day30) / past.capacity
                  for x in (level, line_level, past.read[-1][1])),
            ])  # fmt: skip
        sums += rows
        _line(kind + ("*" if kind in UNSEEN else ""), rows, silent)
    _line("all", sums, 0)


def _line(name: str, rows: list[list[float]], silent: int) -> None:
    table = np.array(rows)
    covers = 100 * table[:, 0].mean()
    off = np.median(table[:, 1:5], axis=0)
    month = np.median(table[:, 5:], axis=0)
    print(
        f"{name:22} {covers:6.0f} {silent:8} |"
        + "".join(f"{x:7.1f} " for x in off)
        + "|"
        + "".join(f"{x:7.2f} " for x in month)
    )


if __name__ == "__main__":
    main(seed=int(sys.argv[1]) if len(sys.argv) > 1 else SEED)
