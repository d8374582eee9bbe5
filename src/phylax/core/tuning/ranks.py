"""Comparing two small samples by ranks: exact, and with ties.

The Wilcoxon-Mann-Whitney test and the Hodges-Lehmann shift with its interval; see Lehmann,
*Nonparametrics: Statistical Methods Based on Ranks*, chapters 1 and 2.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from itertools import product
from statistics import median

Sample = Sequence[float]


def lower(after: Sample, before: Sample) -> float:
    """How likely `after` would lie as low against `before`, or lower, if nothing had changed.

    The probability of a rank sum as small as this one over all ways to part the values at random:
    exact, tied values included. 1 where a sample is empty.
    """
    if not after or not before:
        return 1.0
    ranks = _double_ranks([*after, *before])
    observed = sum(ranks[: len(after)])
    ways = _ways(tuple(sorted(ranks)), len(after))
    total = sum(ways.values())
    return sum(count for rank_sum, count in ways.items() if rank_sum <= observed) / total


def shift(after: Sample, before: Sample, confidence: float = 0.9) -> tuple[float, float, float]:
    """How far `after` lies from `before`: least, likely, most (Hodges-Lehmann, by differences).

    The interval holds the true shift in at least `confidence` of cases, where both samples differ
    by a shift only. ValueError where a sample is empty.
    """
    if not after or not before:
        raise ValueError("both samples need at least one value")
    differences = sorted(a - b for a, b in product(after, before))
    tail = (1 - confidence) / 2
    # how many of the smallest differences may be left out on each side
    out = 0
    ways = _ways(tuple(range(2, 2 * (len(after) + len(before)) + 1, 2)), len(after))
    total = sum(ways.values())
    least = len(after) * (len(after) + 1)
    share = 0.0
    for step in range(len(differences) // 2):
        share += ways.get(least + 2 * step, 0) / total
        if share > tail:
            break
        out = step + 1
    return differences[out], median(differences), differences[-1 - out]


def _double_ranks(values: Sample) -> list[int]:
    """Twice the rank of each value, tied values sharing theirs."""
    order = sorted(range(len(values)), key=lambda place: values[place])
    ranks = [0] * len(values)
    first = 0
    while first < len(order):
        last = first
        while last + 1 < len(order) and values[order[last + 1]] == values[order[first]]:
            last += 1
        for place in order[first : last + 1]:
            ranks[place] = first + last + 2
        first = last + 1
    return ranks


@lru_cache(maxsize=128)
def _ways(ranks: tuple[int, ...], chosen: int) -> dict[int, int]:
    """In how many ways so many of the ranks can be chosen, by their sum.

    Without tied values it is the same for all samples of a size.
    """
    ways: list[dict[int, int]] = [{0: 1}, *({} for _ in range(chosen))]
    for rank in ranks:
        for size in range(chosen, 0, -1):
            here = ways[size]
            for rank_sum, count in ways[size - 1].items():
                here[rank_sum + rank] = here.get(rank_sum + rank, 0) + count
    return ways[chosen]
