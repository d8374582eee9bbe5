"""Windows, closing days, clock changes and each machine's place in a round's time."""

from datetime import date, datetime, time, timedelta
from itertools import islice
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import TUESDAY
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.scheduling.rounds import Described, MachineFilter, Pressure
from phylax.core.scheduling.timing import Closed, Stretch, Timing, ever_fits, first_start, fits

DUBLIN = ZoneInfo("Europe/Dublin")
HOUR = timedelta(hours=1)


def timing(*closed: Closed, **plan: object) -> Timing:
    return Timing(TUESDAY.model_copy(update=plan), DUBLIN, closed)


def at(*when: int) -> int:
    return to_seconds(datetime(*when, tzinfo=DUBLIN))


def shown(found: object) -> list[str]:
    return [f"{from_seconds(one.opens_at).astimezone(DUBLIN):%m-%d %H:%M}" for one in found]  # type: ignore[attr-defined]


def days(of: Timing, most: int = 4, after: int = at(2026, 3, 1)) -> list[str]:
    return shown(islice(of.after(after), most))


FAIR = Closed(date(2026, 3, 10), date(2026, 3, 11))


def test_a_time_on_a_closing_day_moves_to_the_next_open_one_and_keeps_its_name() -> None:
    moved = list(islice(timing(FAIR).after(at(2026, 3, 1)), 3))
    assert shown(moved) == ["03-03 18:30", "03-12 18:30", "03-17 18:30"]
    assert [from_seconds(occurrence.occurs_at).day for occurrence in moved] == [3, 10, 17]
    assert [occurrence.moved for occurrence in moved] == [False, True, False]
    assert "is a closing day: moved to 12 Mar" in timing(FAIR).told(moved[1])


def test_or_is_left_out_or_runs_all_the_same() -> None:
    assert days(timing(FAIR, on_closing_days="skip"), 2) == ["03-03 18:30", "03-17 18:30"]
    assert days(timing(FAIR, on_closing_days="run"), 2) == ["03-03 18:30", "03-10 18:30"]


def test_several_times_that_come_to_one_day_are_one() -> None:
    daily = timing(FAIR, recurrence="FREQ=DAILY")
    assert days(daily, 3, at(2026, 3, 8, 20)) == ["03-09 18:30", "03-12 18:30", "03-13 18:30"]


def test_who_is_closed_for_ever_runs_never() -> None:
    closed = Closed(date(2026, 3, 5), date(2027, 3, 5))
    assert days(timing(closed, recurrence="FREQ=WEEKLY;COUNT=5;BYDAY=TU")) == ["03-03 18:30"]


@given(st.integers(0, 40), st.integers(0, 600))
def test_asking_again_from_any_time_goes_on_where_that_left_off(number: int, hours: int) -> None:
    of = timing(FAIR, Closed(date(2026, 3, 30), date(2026, 4, 7)), recurrence="FREQ=DAILY")
    start = at(2026, 3, 1) + hours * 3600
    occurrences = list(islice(of.after(start), number + 3))
    assert list(islice(of.after(occurrences[number].opens_at), 2)) == occurrences[number + 1 :]
    assert [occurrence.opens_at for occurrence in occurrences] == sorted(
        {occurrence.opens_at for occurrence in occurrences}
    )


def test_days_left_out_and_pauses_make_nothing() -> None:
    assert days(timing(except_dates=(date(2026, 3, 10),)), 2) == ["03-03 18:30", "03-17 18:30"]
    assert days(timing(paused_until=date(2026, 3, 17)), 1) == ["03-17 18:30"]


def stretches(of: Timing, number: int = 0) -> list[tuple[str, str]]:
    occurrence = list(islice(of.after(at(2026, 3, 1)), number + 1))[number]
    return [
        (
            f"{from_seconds(s.opens_at).astimezone(DUBLIN):%d. %H:%M}",
            f"{from_seconds(s.closes_at).astimezone(DUBLIN):%d. %H:%M}",
        )
        for s in of.stretches(occurrence)
    ]


def test_a_window_over_midnight_closes_the_next_day() -> None:
    night = timing(closes=time(6), catch_up=timedelta(0))
    assert stretches(night) == [("03. 18:30", "04. 06:00")]


def test_what_is_caught_up_with_runs_in_the_windows_of_later_days_within_the_limit() -> None:
    night = timing(closes=time(6), catch_up=timedelta(hours=50))
    assert stretches(night) == [
        ("03. 18:30", "04. 06:00"), ("04. 18:30", "05. 06:00"), ("05. 18:30", "05. 20:30"),
    ]  # fmt: skip
    closed = Closed(date(2026, 3, 4), date(2026, 3, 4))
    assert len(stretches(Timing(night.plan, DUBLIN, (closed,)))) == 2


def test_unless_it_may_run_outside_them() -> None:
    anywhen = timing(closes=time(20), catch_up=timedelta(hours=20), late_outside=True)
    assert stretches(anywhen) == [("03. 18:30", "03. 20:00"), ("03. 20:00", "04. 14:30")]
    occurrence = next(anywhen.after(at(2026, 3, 1)))
    assert [s.end_by is None for s in anywhen.stretches(occurrence)] == [False, True]


def test_a_clock_change_inside_a_window_moves_its_end_with_the_clock() -> None:
    # in the night to 29 March 2026 Dublin's clocks skip an hour, in October they repeat one
    for day, hours in ((date(2026, 3, 28), 7), (date(2026, 10, 24), 9), (date(2026, 7, 4), 8)):
        night = timing(recurrence="FREQ=DAILY", at=time(22), closes=time(6), starts_on=day)
        occurrence = next(night.after(at(2026, 1, 1)))
        (first, *_) = night.stretches(occurrence)
        assert (first.closes_at - first.opens_at) / 3600 == hours


def test_a_time_that_the_clock_skips_or_repeats_is_told() -> None:
    spring = timing(recurrence="FREQ=DAILY", at=time(1, 30), starts_on=date(2026, 3, 29))
    assert "the clocks skip 01:30: it is 02:30" in spring.told(next(spring.after(0)))
    autumn = timing(recurrence="FREQ=DAILY", at=time(1, 30), starts_on=date(2026, 10, 25))
    assert "show 01:30 twice: the first" in autumn.told(next(autumn.after(0)))
    assert timing().told(next(timing().after(0))) == ""


def test_a_run_fits_where_it_is_through_before_the_window_closes() -> None:
    window = Stretch(at(2026, 3, 3, 20), at(2026, 3, 4, 6), at(2026, 3, 4, 6))
    assert fits(window, at(2026, 3, 4, 5), HOUR)
    assert not fits(window, at(2026, 3, 4, 5, 1), HOUR)
    assert not fits(window, at(2026, 3, 3, 19), HOUR)
    assert ever_fits([window], 10 * HOUR) and not ever_fits([window], 11 * HOUR)
    open_end = Stretch(at(2026, 3, 3, 20), at(2026, 3, 4, 6), None)
    assert fits(open_end, at(2026, 3, 4, 6), 100 * HOUR)


@given(st.integers(1, 10**6), st.integers(1, 10**6), st.integers(0, 12 * 3600))
def test_a_machines_place_is_the_same_every_time_and_inside_the_window(
    round_id: int, machine: int, takes: int
) -> None:
    window = Stretch(0, 10 * 3600, 10 * 3600)
    spread, length = timedelta(hours=2), timedelta(seconds=takes)
    start = first_start([window], spread, length, round_id, machine)
    assert start == first_start([window], spread, length, round_id, machine)
    assert 0 <= start <= max(0, min(7200, 36000 - takes))


def test_places_are_spread_evenly() -> None:
    window = Stretch(0, 3600, None)
    starts = [first_start([window], HOUR, HOUR, 1, n) for n in range(4000)]
    quarters = [sum(q * 900 <= s < (q + 1) * 900 for s in starts) for q in range(4)]
    assert all(850 < quarter < 1150 for quarter in quarters)


@pytest.mark.parametrize(
    ("now", "opens"), [((3, 3, 12), "03-03 18:30"), ((3, 3, 23), "03-03 23:00"),
                       ((3, 4, 5), "03-04 05:00"), ((3, 4, 7), "03-04 18:30")],
)  # fmt: skip
def test_pressure_runs_now_or_when_the_window_next_opens(now: tuple[int, ...], opens: str) -> None:
    night = timing(closes=time(6), recurrence=None, pressure=Pressure(below_percent=10))
    occurrence = night.from_now(at(2026, *now))
    assert occurrence is not None and shown([occurrence]) == [opens]
    assert list(night.after(0)) == []


def test_a_filter_takes_machines_by_what_they_are() -> None:
    kiosk = Described(7, 2, "museum-kiosk", "Marram Lighthouse Museum", "linux", "Pelham", "Cube")
    assert MachineFilter().takes(kiosk) and MachineFilter(words="marram cube").takes(kiosk)
    assert MachineFilter.model_validate({"systems": ["linux"]}).takes(kiosk)
    assert not MachineFilter.model_validate({"systems": ["windows"]}).takes(kiosk)
    by_client = TUESDAY.model_copy(update={"machine_ids": (), "client_ids": (2,)})
    assert by_client.takes(kiosk)
    assert not by_client.model_copy(update={"except_machine_ids": (7,)}).takes(kiosk)
