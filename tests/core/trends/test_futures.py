"""Forecasts: what may become of a volume, and how honest the stated ranges are."""

from __future__ import annotations

import math

import numpy as np
import pytest
from bench.forecasts import ours
from bench.histories import KINDS, history

from phylax.core.trends.filling import Filling, Jump, Teeth
from phylax.core.trends.futures import DAYS, draws, futures


def filling_by(drift: float, **more: object) -> Filling:
    known: dict[str, object] = {
        "now": 0.0, "used": 50.0, "level": 50.0, "drift": drift, "drift_error": 0.02,
        "weeks": 8.0, "walk": 0.1, "noise": 0.0, "teeth": None,
    }  # fmt: skip
    return Filling(**(known | more))  # type: ignore[arg-type]


def test_a_steady_line_crosses_when_arithmetic_says() -> None:
    found = futures(filling_by(1.0), draws(1)).crossing(90.0)
    assert found.soonest < found.likely < found.latest
    assert abs(found.likely - 40) < 2


def test_the_same_readings_give_the_same_forecast() -> None:
    one, other = (futures(filling_by(0.7), draws(5)).used for _ in range(2))
    assert np.array_equal(one, other)


def test_what_does_not_fill_does_not_cross() -> None:
    found = futures(filling_by(-0.2), draws(1)).crossing(90.0)
    assert math.isinf(found.likely) and math.isinf(found.latest)


def test_a_tooth_crosses_before_the_line_does() -> None:
    teeth = Teeth(rate=2.0, every=7.0, last=0.0)
    smooth = futures(filling_by(0.5), draws(1)).crossing(90.0)
    jagged = futures(filling_by(0.5, teeth=teeth), draws(1)).crossing(90.0)
    # the point of a tooth stands 14 higher: 28 days of drift
    assert 15 < smooth.likely - jagged.likely < 40


def test_one_sudden_change_widens_the_range_more_than_it_moves_the_middle() -> None:
    jumps = {"jumps": (Jump(-20.0, 30.0),), "jump_days": 100.0}
    plain = futures(filling_by(0.4), draws(1)).crossing(90.0)
    with_it = futures(filling_by(0.4, **jumps), draws(1)).crossing(90.0)
    assert with_it.soonest < 0.6 * plain.soonest
    assert with_it.likely > 0.75 * plain.likely


def test_the_cone_holds_eight_of_ten_futures() -> None:
    ahead = futures(filling_by(0.5), draws(1))
    for day, low, likely, high in ahead.cone():
        used = ahead.used[:, int(np.searchsorted(DAYS, day))]
        assert low <= likely <= high
        assert 0.76 < np.mean((used >= low) & (used <= high)) < 0.84


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_ranges_cover_the_truth_and_the_likely_day_beats_doing_nothing(kind: str) -> None:
    """A small share of the bench: enough to notice when a kind of history goes wrong."""
    covered, closer = 0, 0
    for seed in range(500, 520):
        past = history(kind, seed)
        truth = past.crossing(0.9 * past.capacity)
        said, level = ours(past)
        covered += said.soonest - 1 <= truth <= said.latest + 1
        day30 = float(past.truth[29])
        closer += abs(level - day30) <= abs(past.read[-1][1] - day30) + 0.01 * past.capacity
    assert covered >= 10
    assert closer >= 14
