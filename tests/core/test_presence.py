"""When machines are on is learnt by the hour of the week, and said in a sentence."""

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

import pytest

from helpers import TUESDAY
from phylax.core.ground.values import to_seconds
from phylax.core.scheduling.presence import (
    HOUR,
    by_hour_of_week,
    in_a_sentence,
    is_seldom,
    known_since,
    on_in_window,
    place_of,
    propose,
    was_on,
)
from phylax.core.scheduling.timing import Timing

DUBLIN = ZoneInfo("Europe/Dublin")
NOW = to_seconds(datetime(2026, 5, 4, 12, tzinfo=UTC))


def history(weeks: int, on: object) -> dict[int, int]:
    """The bits of a machine that was on at the local times that `on` says."""
    found: dict[int, int] = {}
    for hour in range(NOW // HOUR - weeks * 168, NOW // HOUR):
        local = datetime.fromtimestamp(hour * HOUR, DUBLIN)
        if on(local):  # type: ignore[operator]
            week, bit = place_of(hour * HOUR)
            found[week] = found.get(week, 0) | bit
    return found


def timing(**plan: object) -> Timing:
    return Timing(TUESDAY.model_copy(update={"at": time(2), **plan}), DUBLIN)


def museum(local: datetime) -> bool:
    return 9 <= local.hour < 18


@pytest.mark.parametrize("at", [0, 1772445600, NOW])
def test_an_hour_has_one_place(at: int) -> None:
    week, bit = place_of(at)
    assert was_on({week: bit}, at // HOUR) and bit.bit_count() == 1
    assert not was_on({week: bit}, at // HOUR + 1)


def test_a_round_at_an_hour_when_the_machine_is_off_is_warned_of_with_a_better_one() -> None:
    weeks = history(14, museum)
    since = known_since(weeks)
    assert since is not None
    of = timing(catch_up=timedelta(hours=2))
    on_at = on_in_window(of, weeks, NOW, since)
    assert on_at == (0, 12) and is_seldom(on_at)
    proposed = propose(of, weeks, NOW, since)
    assert proposed == ("", time(9)), "the nearest hour on the same days"
    assert in_a_sentence("museum-kiosk", of, on_at, proposed, NOW) == (
        "museum-kiosk has been on at this hour on 0 of the last 12 Tuesdays; "
        "Tuesdays 09:00 would do"
    )


def test_a_window_that_reaches_the_hours_at_which_it_is_on_is_fine() -> None:
    weeks = history(14, museum)
    on_at = on_in_window(timing(closes=time(10)), weeks, NOW, known_since(weeks) or 0)
    assert on_at == (12, 12) and not is_seldom(on_at)


def test_another_day_is_proposed_where_the_same_day_has_none() -> None:
    weeks = history(14, lambda local: museum(local) and local.weekday() == 3)
    assert propose(timing(), weeks, NOW, known_since(weeks) or 0) == ("Thursdays", time(9))
    never = history(14, lambda local: local.timetuple().tm_yday % 5 == 0 and local.hour == 3)
    assert propose(timing(), never, NOW, known_since(never) or 0) is None


def test_nothing_is_said_before_enough_is_known() -> None:
    weeks = history(2, museum)
    assert not is_seldom(on_in_window(timing(), weeks, NOW, known_since(weeks) or 0))
    assert known_since({}) is None


def test_hours_are_local_across_a_clock_change() -> None:
    weeks = history(12, museum)
    assert NOW - 12 * 168 * HOUR < to_seconds(datetime(2026, 3, 29, tzinfo=UTC)) < NOW
    grid = by_hour_of_week(weeks, DUBLIN, NOW)
    assert grid[1][9] == grid[1][17] == 1.0 and grid[1][8] == grid[1][18] == 0.0


def test_a_rule_of_several_days_looks_at_all_of_them() -> None:
    weeks = history(14, lambda local: museum(local) and local.weekday() == 1)
    of = timing(recurrence="FREQ=WEEKLY;BYDAY=TU,TH", at=time(10), starts_on=date(2026, 1, 1),
                catch_up=timedelta(hours=1))  # fmt: skip
    assert on_in_window(of, weeks, NOW, known_since(weeks) or 0) == (6, 12)
