"""Forecasts: what may become of a volume, and how honest the stated ranges are."""

from __future__ import annotations

import math

import numpy as np
import pytest
from bench.forecasts import ours
from bench.histories import KINDS, history
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.trends import in_passing
from phylax.core.trends.filling import Filling, Freed, Jump, Level, NotYet, SawtoothFit, filling
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
    teeth = SawtoothFit(rate=2.0, every=7.0, last=0.0)
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


def test_few_weeks_make_the_range_wider() -> None:
    def width(weeks: int) -> float:
        filling = filling_by(0.5, weeks=weeks, drift_error=0.1, walk=0.01)
        crossing = futures(filling, draws(1)).crossing(90.0)
        return crossing.latest - crossing.soonest

    assert width(4) > 1.15 * width(53)


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
    assert covered >= 14, "of 20, where 80 % are claimed"
    assert closer >= 14


CAPACITIES = st.sampled_from([1, 512, 2**37, 2**44])
APART = st.one_of(st.sampled_from([1e-4, 0.5, 1.0]), st.floats(0.01, 25))
SHARES = st.floats(-1, 2)


# what another test left to the garbage collector is not of this one
@pytest.mark.filterwarnings("error", "ignore::ResourceWarning")
@given(
    CAPACITIES,
    st.lists(st.tuples(APART, SHARES), max_size=60),
    st.lists(st.tuples(st.floats(0, 90), st.floats(0, 1)), max_size=9),
)
def test_whatever_was_read_the_range_is_in_order_or_nothing_is_said(
    capacity: int, read: list[tuple[float, float]], cleaned: list[tuple[float, float]]
) -> None:
    times = np.cumsum([apart for apart, _ in read])
    levels = [
        Level(float(at), share * capacity) for at, (_, share) in zip(times, read, strict=True)
    ]
    freed = [Freed(at, share * capacity) for at, share in sorted(cleaned)]
    try:
        found = filling(levels, freed, capacity, float(times[-1]) if read else 0.0)
    except NotYet:
        return
    ahead = futures(found, draws(1))
    crossing = ahead.crossing(0.9 * capacity)
    assert 0 <= crossing.soonest <= crossing.likely <= crossing.latest
    assert all(low <= likely <= high for _, low, likely, high in ahead.cone())


@given(st.lists(st.tuples(st.integers(0, 3 * 86400), st.integers(0, 9)), unique_by=lambda r: r[0]))
def test_readings_thinned_out_keep_each_hours_last_and_each_days_extremes(
    read: list[tuple[int, int]],
) -> None:
    read.sort()
    gone = set(in_passing(read))
    kept = [one for one in read if one[0] not in gone]
    assert {at // 3600: free for at, free in kept} == {at // 3600: free for at, free in read}
    for day in {at // 86400 for at, _ in read}:
        was, now = ([f for at, f in some if at // 86400 == day] for some in (read, kept))
        assert (min(now), max(now)) == (min(was), max(was))
        assert len(now) <= len({at // 3600 for at, _ in read if at // 86400 == day}) + 2
    assert in_passing(kept) == []
