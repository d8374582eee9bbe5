"""Recurrence rules by RFC 5545, in words and across clock changes."""

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.scheduling.recurrence import checked_rule, how_often, next_dates, occurrences

NEW_YORK = ZoneInfo("America/New_York")
DUBLIN = ZoneInfo("Europe/Dublin")
BEGINNING = datetime(1997, 1, 1, tzinfo=UTC)


def days_of(rule: str, most: int = 10) -> list[str]:
    """Local days of a rule that starts on 2 September 1997, 09:00, in New York, as the RFC's do."""
    found = next_dates(rule, date(1997, 9, 2), time(9), NEW_YORK, after=BEGINNING, most=most)
    assert all(at.astimezone(NEW_YORK).time() == time(9) for at in found)
    return [f"{at.astimezone(NEW_YORK):%m-%d}" for at in found]


@pytest.mark.parametrize(
    ("rule", "days"),
    [
        # the examples of RFC 5545, section 3.8.5.3
        ("FREQ=DAILY;COUNT=10", [f"09-{d:02d}" for d in range(2, 12)]),
        ("FREQ=DAILY;INTERVAL=10;COUNT=5", ["09-02", "09-12", "09-22", "10-02", "10-12"]),
        ("FREQ=WEEKLY;COUNT=3", ["09-02", "09-09", "09-16"]),
        ("FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH",
         ["09-02", "09-04", "09-16", "09-18", "09-30", "10-02", "10-14", "10-16"]),
        ("FREQ=MONTHLY;COUNT=10;BYDAY=1FR",
         ["09-05", "10-03", "11-07", "12-05", "01-02", "02-06", "03-06", "04-03", "05-01",
          "06-05"]),
        ("FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", ["09-22", "10-20", "11-17", "12-22", "01-19", "02-16"]),
        ("FREQ=MONTHLY;BYMONTHDAY=-3", ["09-28", "10-29", "11-28", "12-29", "01-29", "02-26"]),
        ("FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", ["09-04", "10-07", "11-06"]),
        ("FREQ=DAILY;UNTIL=19970904T130000Z", ["09-02", "09-03", "09-04"]),
    ],
)  # fmt: skip
def test_the_rfcs_own_examples(rule: str, days: list[str]) -> None:
    assert days_of(rule, most=len(days)) == days


def test_a_time_that_a_clock_change_skips_is_read_with_the_offset_before_it() -> None:
    # on 29 March 2026 Dublin's clocks go from 01:00 to 02:00
    (at,) = next_dates(
        "FREQ=DAILY", date(2026, 3, 29), time(1, 30), DUBLIN,
        after=datetime(2026, 3, 28, 12, tzinfo=UTC), most=1,
    )  # fmt: skip
    assert at == datetime(2026, 3, 29, 1, 30, tzinfo=UTC)
    assert f"{at.astimezone(DUBLIN):%H:%M}" == "02:30"


def test_a_time_that_a_clock_change_repeats_happens_once_the_first_time() -> None:
    after = datetime(2026, 10, 24, 12, tzinfo=UTC)
    found = next_dates("FREQ=DAILY", date(2026, 10, 25), time(1, 30), DUBLIN, after=after, most=2)
    assert found == [
        datetime(2026, 10, 25, 0, 30, tzinfo=UTC),
        datetime(2026, 10, 26, 1, 30, tzinfo=UTC),
    ]


@given(
    st.sampled_from(["FREQ=DAILY", "FREQ=WEEKLY;BYDAY=MO,SU", "FREQ=MONTHLY;BYMONTHDAY=31,1"]),
    st.times(),
    st.integers(0, 400),
)
def test_occurrences_come_in_order_and_only_after_the_asked_moment(
    rule: str, at: time, days: int
) -> None:
    at = at.replace(second=0, microsecond=0)
    after = datetime(2026, 1, 1, tzinfo=UTC) + timedelta(days=days, hours=days % 24)
    found = next_dates(rule, date(2026, 1, 1), at, DUBLIN, after=after, most=6)
    assert found == sorted(set(found))
    assert all(moment > after for moment in found)
    # asking again from any of them goes on where that left off
    assert next_dates(rule, date(2026, 1, 1), at, DUBLIN, after=found[2], most=3) == found[3:6]


def test_a_rule_that_ends_ends() -> None:
    rule = "FREQ=DAILY;COUNT=2"
    found = occurrences(rule, date(2026, 1, 1), time(9), DUBLIN, after=BEGINNING)
    assert len(list(found)) == 2


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        ("FREQ=WEEKLY;BYDAY=TU", "every Tuesday at 18:30"),
        ("FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TH", "every 2 weeks on Monday and Thursday at 18:30"),
        ("FREQ=MONTHLY;BYMONTHDAY=1", "every month on the 1st at 18:30"),
        ("FREQ=MONTHLY;BYMONTHDAY=22,-1", "every month on the 22nd and the last day at 18:30"),
        ("FREQ=MONTHLY;BYDAY=-1FR", "every month on the last Friday at 18:30"),
        ("FREQ=DAILY;COUNT=3", "every day at 18:30, 3 times"),
        ("FREQ=DAILY;UNTIL=20260601", "every day at 18:30, until 2026-06-01"),
        ("FREQ=YEARLY;BYMONTH=2", "FREQ=YEARLY;BYMONTH=2 at 18:30"),
    ],
)
def test_rules_in_words(rule: str, words: str) -> None:
    assert how_often(rule, time(18, 30)) == words


@pytest.mark.parametrize(
    "rule",
    ["", "now and then", "FREQ=HOURLY", "FREQ=WEEKLY;BYHOUR=3", "FREQ=WEEKLY;BYDAY=XX",
     "FREQ=WEEKLY;FREQ=DAILY", "FREQ=DAILY;INTERVAL=often", "FREQ=MONTHLY;BYMONTHDAY=40"],
)  # fmt: skip
def test_what_is_no_rule_is_refused(rule: str) -> None:
    with pytest.raises(ValueError, match=r"FREQ|recurrence rule"):
        checked_rule(rule)
