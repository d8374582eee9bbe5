"""How categories come back, and how often a machine should be cleaned, by example."""

from __future__ import annotations

import pytest

from phylax.core.trends import DAY, Help, IntervalVerdict
from phylax.core.trends.interval import OtherVolume, Prospect, advise
from phylax.core.trends.regrowth import Seen, grown_between, regrowth

GIB = 2**30


def weekly(rate: float, weeks: int = 6) -> list[Seen]:
    """A survey before each weekly cleaning and one straight after it."""
    looks = []
    for week in range(weeks):
        at = week * 7 * DAY
        looks.append(Seen(at, int(7 * rate * GIB), after_cleaning=False))
        looks.append(Seen(at + 600, 0, after_cleaning=True))
    return looks


def test_what_comes_back_is_measured_from_a_cleaning_to_the_next_look() -> None:
    found = regrowth("web-cache", "Pages", weekly(2.0))
    assert found is not None
    assert abs(found.rate.likely - 2 * GIB) < 0.01 * GIB
    assert (found.cleanings, found.back_in_days, found.removed) == (5, 7, 14 * GIB)


def test_one_odd_week_does_not_count_much() -> None:
    looks = weekly(2.0, 9)
    looks[6] = looks[6]._replace(holds=200 * GIB)
    found = regrowth("web-cache", "Pages", looks)
    assert found is not None and abs(found.rate.likely - 2 * GIB) < 0.1 * GIB


def test_nothing_is_said_before_somebody_looked_again() -> None:
    assert regrowth("trash", "Trash", []) is None
    assert regrowth("trash", "Trash", weekly(1.0)[:2]) is None


def test_what_does_not_come_back_is_not_said_to_be_back() -> None:
    looks = [Seen(0, 9 * GIB, False), Seen(600, 0, True), Seen(30 * DAY, GIB, False)]
    found = regrowth("trash", "Trash", looks)
    assert found is not None and found.back_in_days is None


def test_what_grew_comes_first() -> None:
    assert grown_between({"a": 5, "b": 9}, {"a": 7, "c": 1}) == [("a", 2), ("c", 1), ("b", -9)]


def prospect(**more: object) -> Prospect:
    """A 200 GiB volume, half used after a cleaning; 90 % is its threshold."""
    known: dict[str, object] = {
        "mount": "C:", "capacity": 200 * GIB, "threshold_percent": 90,
        "floor": 100 * GIB, "own": 0.05 * GIB, "own_error": 0.0, "regrows": 0.5 * GIB,
        "every": 7.0,
    }  # fmt: skip
    return Prospect(**(known | more))  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("given", "weeks", "verdict", "helps", "says"),
    [
        (prospect(), 12, IntervalVerdict.TOO_OFTEN, Help.CLEANING,
         "weekly is more than this machine needs"),
        (prospect(regrows=2.0 * GIB, every=28.0), 4, IntervalVerdict.RIGHT, Help.CLEANING,
         "as it is"),
        (prospect(regrows=4.0 * GIB, every=28.0), 2, IntervalVerdict.TOO_SELDOM, Help.CLEANING,
         "every 4 weeks is not enough"),
        (prospect(floor=188 * GIB, own=1.1 * GIB), None, IntervalVerdict.CANNOT_HELP,
         Help.LARGER_DISK, "94 % is in use straight after a cleaning"),
        (prospect(floor=188 * GIB, own=0.01 * GIB), None, IntervalVerdict.CANNOT_HELP,
         Help.ARCHIVE, "into an archive"),
        (prospect(floor=188 * GIB, others=(OtherVolume("D:", 900 * GIB, 800 * GIB),)), None,
         IntervalVerdict.CANNOT_HELP, Help.OTHER_VOLUME, "to D:, which has 800.0 GiB free"),
        (prospect(floor=150 * GIB, own=3.0 * GIB, grows="Download folders"), None,
         IntervalVerdict.CANNOT_HELP, Help.RULE, "What grows is “Download folders”"),
        (prospect(floor=160 * GIB, regrows=3.0 * GIB), 1, IntervalVerdict.TOO_SELDOM,
         Help.LARGER_DISK, "even when cleaned weekly"),
        (prospect(floor=168 * GIB, own=0.1 * GIB, own_error=0.2 * GIB, regrows=0.4 * GIB,
                  every=28.0),
         1, IntervalVerdict.TOO_SELDOM, Help.CLEANING, "Weekly it lasts some 92 days"),
        (prospect(regrows=None, every=None), None, IntervalVerdict.NONE_YET, Help.NOTHING_NEEDED,
         "without any cleaning"),
        (prospect(regrows=None, every=None, own=1.0 * GIB), None, IntervalVerdict.NONE_YET,
         Help.LOOK, "not known yet"),
        (prospect(regrows=None, every=None, own=1.0 * GIB, can_go=30 * GIB), 4,
         IntervalVerdict.NONE_YET, Help.CLEANING, "Begin every 4 weeks"),
    ],
)  # fmt: skip
def test_the_advice_by_example(
    given: Prospect, weeks: int | None, verdict: IntervalVerdict, helps: Help, says: str
) -> None:
    advice = advise(given)
    assert (advice.weeks, advice.verdict, advice.helps) == (weeks, verdict, helps), advice.text
    assert says in advice.text


def test_the_advised_interval_does_keep_the_threshold() -> None:
    """Lived through: three months at the advised interval stay below, the next step does not."""
    for regrows in (0.6, 1.1, 2.3, 4.0, 8.0):
        given = prospect(regrows=regrows * GIB, own=0.1 * GIB)
        weeks = advise(given).weeks
        assert weeks is not None

        def highest(every: int, given: Prospect = given) -> float:
            assert given.regrows is not None
            return max(
                given.floor + given.own * day + given.regrows * (day % (7 * every) or 7 * every)
                for day in range(1, 91)
            )

        assert highest(weeks) <= given.threshold
        following = {1: 2, 2: 4, 4: 8, 8: 12}.get(weeks)
        assert following is None or highest(following) > given.threshold
