"""How long it will take still, and why sums differ."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.ground.quantities import show_seconds
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.tally import Tally
from phylax.core.hold.holds import as_ranges
from phylax.core.protocol import CategoryOutcome
from phylax.core.retention import Reason
from phylax.core.runs.balance import balance
from phylax.core.scheduling.pace import Pace
from phylax.core.survey import SkippedSum

MIB = 2**20
NOON = datetime(2026, 3, 2, 12, tzinfo=UTC)


def fed(of_items: int | None, of_size: int | None, steps: list[tuple[float, int, int]]) -> Pace:
    pace = Pace(of_items, of_size, 0.0)
    for step in steps:
        pace.note(*step)
    return pace


def test_a_steady_pace_tells_the_time_left_by_what_takes_longer() -> None:
    pace = fed(1000, 4000, [(t, 100 * t, 100 * t) for t in range(1, 6)])
    assert pace.items_per_second == 100
    assert pace.seconds_left == 35, "500 items would be done in 5 s, but 3,500 bytes take 35"


def test_the_last_seconds_count_and_not_the_beginning() -> None:
    quick = [(t, 1000 * t, 0) for t in range(1, 11)]
    slow = [(10 + t, 10_000 + 10 * t, 0) for t in range(1, 31)]
    pace = fed(11_000, None, quick + slow)
    assert pace.items_per_second == pytest.approx(10)
    assert pace.seconds_left == 70


@pytest.mark.parametrize(
    ("of_items", "steps"),
    [
        (None, [(t, t, t) for t in range(9)]),
        (1000, [(0.5, 100, 0)]),
        (1000, [(1.0, 10, 0), *((t, 10, 0) for t in range(2, 30))]),
        (10**9, [(t, t, 0) for t in range(9)]),
    ],
    ids=["nothing expected", "too early", "standing still", "longer than a week"],
)
def test_nothing_is_said_while_it_cannot_be(of_items: int | None, steps: list) -> None:
    assert fed(of_items, None, steps).seconds_left is None


def test_more_than_expected_leaves_no_time_and_never_less() -> None:
    assert fed(10, None, [(t, 10 * t, 0) for t in range(1, 9)]).seconds_left == 0


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        (0, "0 s"),
        (59, "59 s"),
        (60, "1 min"),
        (3540, "59 min"),
        (3600, "1 h"),
        (12000, "3 h 20 min"),
    ],
)
def test_stretches_of_time_in_words(seconds: int, words: str) -> None:
    assert show_seconds(seconds) == words


@given(st.sets(st.integers(1, 300)))
def test_ranges_hold_exactly_the_numbers(numbers: set[int]) -> None:
    ranges = list(as_ranges(sorted(numbers)))
    assert {n for first, last in ranges for n in range(first, last + 1)} == numbers
    assert all(b[0] > a[1] + 1 for a, b in pairwise(ranges))


# --- promised, done, freed -------------------------------------------------------------------


def reading(free: int, file_system: str = "ext4") -> ReadingIn:
    return ReadingIn(mount="/", capacity=100 * MIB, free=free, at=NOON, file_system=file_system)


def outcome(**more: object) -> CategoryOutcome:
    return CategoryOutcome.model_validate({"category": "user-temp", **more})


def why(promised: int, freed: int, *outcomes: CategoryOutcome, file_system: str = "ext4") -> str:
    found = balance(
        Tally(count=9, size=promised),
        outcomes,
        [reading(20 * MIB, file_system)],
        [reading(20 * MIB + freed, file_system)],
    )
    return " ".join(found.why)


def removed(size: int) -> dict[str, Tally]:
    return {"removed": Tally(count=3, size=size)}


def test_where_all_is_equal_nothing_is_explained() -> None:
    assert why(30 * MIB, 30 * MIB, outcome(**removed(30 * MIB))) == ""


HELD, LINKED = Tally(count=1, size=10 * MIB), Tally(count=4, size=5 * MIB)
STUCK = (SkippedSum(reason=Reason.IN_USE, count=2, size=10 * MIB),)


@pytest.mark.parametrize(
    ("promised", "freed", "more", "words"),
    [
        (40, 30, {"held": HELD}, "10.0 MiB is held and becomes free only"),
        (40, 30, {"left": STUCK}, "2 items, 10.0 MiB, left: in use."),
        (20, 30, {}, "10.0 MiB more than expected"),
        (40, 30, {}, "10.0 MiB less than expected"),
        (30, 20, {}, "other programs wrote"),
        (30, 40, {}, "other programs removed files"),
        (30, 30, {"linked": LINKED}, "4 removed names were hard links of files"),
        (30, 0, {"category": "web-site-data"}, "in the browsers' own databases"),
    ],
)
def test_each_difference_has_its_reason(
    promised: int, freed: int, more: dict[str, object], words: str
) -> None:
    """Of 30 MiB removed, with what was promised and freed in MiB."""
    one = outcome(**{"category": "user-temp", **removed(30 * MIB), **more})
    assert words in why(promised * MIB, freed * MIB, one)


def test_a_volume_that_compresses_may_free_less() -> None:
    one = outcome(**removed(30 * MIB))
    assert "compresses some files" in why(30 * MIB, 20 * MIB, one, file_system="btrfs")


def test_small_differences_are_nobodys_business() -> None:
    assert why(30 * MIB, 30 * MIB - 4096, outcome(**removed(30 * MIB))) == ""
