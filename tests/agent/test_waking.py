"""An agent knows when its machine slept, and stops when its time is up."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from engine import Desk, rule
from helpers import make_file, make_standin
from phylax.agent.machines.standin import StandInMachine
from phylax.agent.runtime.sleep import SleepWatch, slept_so_far
from phylax.core.protocol import CategoryRule, CleanOrder

MINUTE = timedelta(minutes=1)


class Time:
    """Two clocks of a system: one that goes on while it sleeps, one that stands still."""

    def __init__(self) -> None:
        self.now = datetime(2026, 3, 2, 9, tzinfo=UTC)
        self.slept = 0.0

    def pass_(self, span: timedelta, *, asleep: bool = False) -> None:
        self.now += span
        self.slept += span.total_seconds() if asleep else 0


def waking(time: Time, folder: Path) -> SleepWatch:
    make_standin(folder)
    return SleepWatch(StandInMachine(folder), lambda: time.slept, lambda: time.now)


def test_each_sleep_is_told_once_with_when_it_was(tmp_path: Path) -> None:
    time = Time()
    begun = time.now
    known = waking(time, tmp_path / "m")
    time.pass_(30 * MINUTE)
    known.look()
    time.pass_(8 * 60 * MINUTE, asleep=True)
    known.look()
    time.pass_(10 * MINUTE)
    awake = known.told()
    assert (awake.since, awake.at, awake.booted_at) == (begun, time.now, None)
    (slept,) = awake.slept
    assert (slept.begin, slept.end) == (begun + 30 * MINUTE, begun + 510 * MINUTE)
    assert known.told().slept == ()


def test_a_nap_is_not_worth_telling_and_no_sleep_began_before_the_agent(tmp_path: Path) -> None:
    time = Time()
    known = waking(time, tmp_path / "m")
    time.pass_(MINUTE / 2, asleep=True)
    assert known.told().slept == ()
    time.slept += 1e6
    (slept,) = known.told().slept
    assert slept.begin == known.told().since


def test_the_system_says_how_long_it_has_slept() -> None:
    first = slept_so_far()
    # the two clocks are read one after the other
    assert -0.1 < first <= slept_so_far() + 1


def test_work_stops_when_its_time_is_up_and_says_so(tmp_path: Path) -> None:
    home = make_standin(tmp_path / "m", items_per_second=20)
    for n in range(200):
        make_file(home / f".tmp/{n}", days_old=3)
    desk = Desk(StandInMachine(tmp_path / "m"), tmp_path / "agent")

    def order(run_id: int, end_by: datetime) -> CleanOrder:
        return CleanOrder(
            run_id=run_id, lease="l", clean=("user-temp",), survey_first=True, end_by=end_by,
            rules=(CategoryRule(category="user-temp", rule=rule()),),
        )  # fmt: skip

    desk.carry_out(order(1, datetime.now(UTC) + timedelta(seconds=2)))
    (result,) = desk.results()
    assert result.timed_out and not result.cancelled and not result.error
    assert result.ended_at - result.started_at < timedelta(seconds=9)
    kept = len(list((home / ".tmp").iterdir()))
    desk.carry_out(order(2, datetime.now(UTC) - MINUTE))
    assert len(list((home / ".tmp").iterdir())) == kept, "nothing begins after its time"
    assert [r.timed_out for r in desk.results()] == [True, True]
