"""How a volume fills, from its daily levels: by example, each with a truth that is known."""

from __future__ import annotations

import numpy as np
import pytest

from phylax.core.trends.filling import Filling, Freed, Level, NotYet, filling

CAPACITY = 200.0


def filled(
    used: list[float], cleaned: list[Freed] | None = None, *, now: float | None = None
) -> Filling:
    """Of a volume whose level was read at the end of each day."""
    levels = [Level(float(day), one) for day, one in enumerate(used)]
    return filling(levels, cleaned or [], CAPACITY, len(used) - 1.0 if now is None else now)


def steady(days: int, rate: float = 0.5, noise: float = 0.1, seed: int = 7) -> list[float]:
    random = np.random.default_rng(seed)
    return list(50 + rate * np.arange(days) + random.normal(0, noise, days))


def test_steady_filling_is_measured_within_its_error() -> None:
    found = filled(steady(60))
    assert abs(found.drift - 0.5) < 2 * found.drift_error < 0.05
    assert found.sudden == () and found.drift_before is None


def test_one_big_copy_spoils_nothing_and_is_told_apart() -> None:
    used = steady(60)
    copied = [one + (40 if day >= 45 else 0) for day, one in enumerate(used)]
    found = filled(copied)
    assert abs(found.drift - 0.5) < 0.05
    (jump,) = found.sudden
    assert jump.at == 45 and abs(jump.size - 40) < 1


def test_space_that_came_free_by_itself_is_a_sudden_change_too() -> None:
    used = [one - (30 if day >= 40 else 0) for day, one in enumerate(steady(60))]
    (jump,) = filled(used).sudden
    assert jump.at == 40 and abs(jump.size + 30) < 1


def test_a_new_pace_is_no_jump_and_counts_from_when_it_began() -> None:
    used = steady(90, rate=0.1)
    used = [one + max(0, day - 65) * 3.0 for day, one in enumerate(used)]
    found = filled(used)
    assert abs(found.drift - 3.1) < 0.35
    assert found.drift_before is not None and found.drift_before < 0.6
    assert 55 <= found.since <= 72
    assert len(found.sudden) <= 1


def cleaned_every(every: int, days: int = 112) -> tuple[list[float], list[Freed]]:
    """By 0.2 a day, and 1.0 a day of what cleanings take."""
    used, cleaned, junk = [], [], 0.0
    for day in range(days):
        junk += 1.0
        if day and day % every == 0:
            cleaned.append(Freed(day - 0.5, 0.9 * (junk - 0.5)))
            junk -= 0.9 * (junk - 0.5)
        used.append(50 + 0.2 * day + junk)
    return used, cleaned


@pytest.mark.parametrize("every", [7, 14, 28])
def test_the_teeth_of_regular_cleanings_are_taken_out(every: int) -> None:
    found = filled(*cleaned_every(every))
    assert found.teeth is not None and found.teeth.every == every
    assert abs(found.drift - 0.2) < 0.1
    assert abs(found.gross - 1.2) < 0.15
    assert found.sudden == ()


def test_a_cleaning_in_passing_that_took_next_to_nothing_changes_nothing() -> None:
    used, cleaned = cleaned_every(28)
    usual = filled(used, cleaned)
    found = filled(used, [*cleaned, Freed(95.0, 0.0), Freed(110.5, 0.1)])
    assert (found.teeth, found.drift, found.level) == (usual.teeth, usual.drift, usual.level)


def test_a_single_cleaning_is_no_loss_of_what_gathers() -> None:
    used = [one - (20 if day >= 30 else 0) for day, one in enumerate(steady(60))]
    found = filled(used, [Freed(29.5, 20.0)])
    assert found.teeth is None and found.sudden == ()
    assert abs(found.drift - 0.5) < 0.05


def test_cleanings_that_ceased_are_not_counted_on() -> None:
    cleaned = [Freed(7.0 * week - 0.5, 3.0) for week in range(1, 6)]
    assert filled(steady(80), cleaned).teeth is None


def test_a_machine_that_is_off_at_weekends_lost_nothing() -> None:
    levels = [
        Level(float(day), 50 + 2.0 * (day // 7 * 5 + min(day % 7, 5)))
        for day in range(84)
        if day % 7 < 5
    ]
    found = filling(levels, [], CAPACITY, 83.0)
    assert found.sudden == ()
    assert abs(found.drift - 10 / 7) < 0.2


def test_noise_on_the_readings_is_not_taken_for_a_walk() -> None:
    truth, fillings = (
        50 + 0.3 * 99,
        [filled(steady(100, rate=0.3, noise=3.0, seed=seed)) for seed in range(20)],
    )
    assert abs(np.mean([one.drift for one in fillings]) - 0.3) < 0.05
    assert 2.0 < np.mean([one.noise for one in fillings]) < 4.0
    assert np.mean([one.walk for one in fillings]) < 1.5
    # the level now is better known than by the newest reading
    off = np.mean([abs(one.level - truth) for one in fillings])
    assert off < 0.7 * np.mean([abs(one.used - truth) for one in fillings])


@pytest.mark.parametrize(
    ("levels", "now", "why"),
    [
        ([], 0.0, "never read"),
        ([Level(float(day), 50.0) for day in range(4)], 3.0, "for 3 days only"),
        ([Level(float(day), 50.0) for day in range(60)], 100.0, "last read 41 days ago"),
        (
            [Level(float(day), 50.0) for day in range(60)] + [Level(425.0, 70.0)],
            425.0,
            "read again for less than a day",
        ),
    ],
)
def test_it_says_when_nothing_can_be_said(levels: list[Level], now: float, why: str) -> None:
    with pytest.raises(NotYet, match=why):
        filling(levels, [], CAPACITY, now)


def test_after_a_year_of_silence_only_what_came_since_counts() -> None:
    before = [Level(float(day), 20 + 2.0 * day) for day in range(60)]
    since = [Level(425.0 + day, 60 + 0.1 * day) for day in range(20)]
    found = filling(before + since, [], CAPACITY, 444.0)
    assert abs(found.drift - 0.1) < 0.05
