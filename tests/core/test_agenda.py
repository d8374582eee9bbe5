"""The agenda adds up what a client's machines take, and says what gets in each other's way."""

from datetime import UTC, datetime, timedelta

import pytest

from phylax.core.scheduling.agenda import AgendaLine, site_takes, with_clashes

TEN = datetime(2026, 3, 3, 10, tzinfo=UTC)
MINUTE = timedelta(minutes=1)


@pytest.mark.parametrize(
    ("takes", "at_once", "whole"),
    [([], 2, 0), ([30, 10, 20], None, 30), ([30, 10, 20], 1, 60), ([30, 10, 20], 2, 30),
     ([5] * 5, 2, 15)],
)  # fmt: skip
def test_machines_that_may_not_work_at_once_work_one_after_the_other(
    takes: list[int], at_once: int | None, whole: int
) -> None:
    assert site_takes([n * MINUTE for n in takes], at_once) == whole * MINUTE


def line(round_id: int, begin: int, end: int, closes: int | None = None) -> AgendaLine:
    return AgendaLine(
        round_id=round_id, round_name=f"round {round_id}", routine_name="r", zone="UTC",
        occurs_at=TEN + begin * MINUTE, opens_at=TEN + begin * MINUTE, ends_at=TEN + end * MINUTE,
        closes_at=None if closes is None else TEN + closes * MINUTE,
    )  # fmt: skip


def test_rounds_that_share_machines_at_one_time_clash_and_others_do_not() -> None:
    lines = [line(3, 0, 60), line(1, 30, 40), line(2, 50, 70), line(1, 60, 90), line(3, 200, 210)]
    agenda_lines = with_clashes(lines, {(1, 3): 2})
    clashes = {
        (one.round_id, one.opens_at.minute): one.clashes for one in agenda_lines if one.clashes
    }
    assert clashes == {
        (3, 0): ("2 machines also in round 1 at that time",),
        (1, 30): ("2 machines also in round 3 at that time",),
    }


def test_what_is_not_through_before_it_closes_is_said() -> None:
    (found,) = with_clashes([line(1, 0, 90, closes=60)], {})
    assert found.clashes == ("not through before it closes: 30 minutes too long",)
