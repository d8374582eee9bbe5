"""Neither a machine's clock nor a service alone makes anything old."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.agent.platform.clock import BelievedClock, to_moment
from phylax.core.protocol.trusted_time import (
    AGREE,
    TrustedTime,
    agreed,
    believed,
    credited,
    stepped,
)

T, DAY, YEAR = 1_800_000_000.0, 86400.0, 365 * 86400.0
CREDIT = TrustedTime(time=T, running=1000, boot="a", wall=T)


def test_nothing_is_trusted_before_machine_and_service_have_agreed_once() -> None:
    now = believed(None, T, 5, "a")
    assert not now.trusted and not now.may_expire and "not yet agreed" in now.why
    assert agreed(None, T + YEAR, 5, "a", T) is None
    credit = agreed(None, T, 5, "a", T + 3)
    assert credit is not None and believed(credit, T, 5, "a").trusted


@pytest.mark.parametrize("wall", [T + YEAR, T + DAY, T + 2 * AGREE])
def test_a_clock_that_is_ahead_makes_nothing_old(wall: float) -> None:
    now = believed(CREDIT, wall, 1000 + 60, "a")
    assert now.trusted and now.now == T + 60


def test_a_service_that_is_ahead_moves_nothing_by_itself() -> None:
    assert agreed(CREDIT, T, 1000, "a", T + YEAR) == CREDIT


def test_a_clock_that_is_behind_is_not_trusted_and_heals_by_itself() -> None:
    assert not believed(CREDIT, T - YEAR, 1060, "a").trusted
    assert believed(CREDIT, T + 60, 1060, "a").trusted


def test_what_the_machine_did_not_run_adds_nothing_until_both_agree_again() -> None:
    now = believed(CREDIT, T + 30 * DAY, 5, "b")
    assert now.trusted and now.now == T
    after = agreed(CREDIT, T + 3 * DAY, 5, "b", T + 3 * DAY)
    assert after is not None and credited(after, 5, "b") == T + 3 * DAY
    assert believed(after, T + 3 * DAY, 5, "b").may_expire


def test_after_a_leap_of_more_than_a_week_nothing_expires_for_a_day_of_running() -> None:
    leapt = agreed(CREDIT, T + YEAR, 2000, "a", T + YEAR)
    assert leapt is not None
    assert not believed(leapt, T + YEAR, 2000, "a").may_expire
    assert believed(leapt, T + YEAR + DAY, 2000 + DAY, "a").may_expire


def test_files_of_a_time_when_the_clock_was_behind_count_from_when_it_was_set() -> None:
    wrong = TrustedTime(time=T, running=100, boot="a", wall=T - YEAR)
    right = stepped(wrong, T + 500, 600, "a")
    (span,) = right.behind
    now = believed(right, T + 500, 600, "a")
    assert span.ended_at == T + 500
    assert now.since(int(T - YEAR)) == int(T + 500)
    assert now.since(int(T - 2 * YEAR)) == int(T - 2 * YEAR)
    assert stepped(CREDIT, T + 100, 1100, "a") is CREDIT


@given(
    steps=st.lists(
        st.tuples(
            st.sampled_from(["runs", "reboots", "wall jumps", "service jumps", "talks"]),
            st.floats(-2 * YEAR, 2 * YEAR),
        ),
        max_size=30,
    )
)
def test_credit_never_passes_what_both_clocks_have_shown(steps: list) -> None:
    credit, boot, running = CREDIT, 0, 1000.0
    wall_off = service_off = 0.0
    true, furthest = T, T
    for step, by in steps:
        match step:
            case "runs":
                true, running = true + abs(by), running + abs(by)
            case "reboots":
                boot, running, true = boot + 1, 1.0, true + abs(by)
            case "wall jumps":
                wall_off = by
            case "service jumps":
                service_off = by
            case "talks":
                both = abs(wall_off - service_off) <= AGREE
                if both:
                    furthest = max(furthest, true + wall_off)
                credit = agreed(
                    credit, true + wall_off, running, str(boot), true + service_off
                ) or credit  # fmt: skip
        now = believed(credit, true + wall_off, running, str(boot))
        assert now.now <= true + wall_off + 1e-3
        # it moves on by running time alone from the furthest that both have shown together
        assert credited(credit, running, str(boot)) <= furthest + (true - T) + 1e-3


def test_a_clock_is_kept_over_a_restart_and_a_damaged_note_is_as_none(tmp_path: Path) -> None:
    wall, running = [T], [1000.0]
    clock = BelievedClock(tmp_path, lambda: wall[0], lambda: running[0], lambda: "boot")
    assert not clock.believed().trusted
    clock.agree(to_moment(T + 5))
    assert clock.believed().trusted
    wall[0], running[0] = T + YEAR, 1100.0
    again = BelievedClock(tmp_path, lambda: wall[0], lambda: running[0], lambda: "boot")
    assert again.believed().now == T + 100
    (tmp_path / "clock.json").write_text("{}")
    third = BelievedClock(tmp_path, lambda: wall[0], lambda: running[0], lambda: "boot")
    assert not third.believed().trusted


def test_a_clock_that_leapt_ahead_and_was_set_right_leaves_no_file_younger_for_good() -> None:
    ahead = stepped(CREDIT, T + 10 * YEAR, 1010, "a")
    assert ahead.behind, "as far as the machine can tell, it had been behind"
    right = stepped(ahead, T + 70, 1070, "a")
    settled = agreed(right, T + 130, 1130, "a", T + 130)
    assert settled is not None and settled.behind == ()
    now = believed(settled, T + 130, 1130, "a")
    assert now.trusted and now.since(int(T - 5)) == int(T - 5)


def test_files_made_while_the_clock_was_set_back_for_a_minute_are_no_older_than_that_minute() -> (
    None
):
    back = stepped(CREDIT, T - 10 * YEAR, 1010, "a")
    assert not believed(back, T - 10 * YEAR + 30, 1040, "a").trusted
    right = stepped(back, T + 70, 1070, "a")
    settled = agreed(right, T + 130, 1130, "a", T + 130)
    assert settled is not None
    now = believed(settled, T + 130, 1130, "a")
    made = int(T - 10 * YEAR + 30)
    assert now.trusted and now.since(made) == int(T + 70), "not ten years old"
    assert now.since(int(T - DAY)) == int(T - DAY), "what was there before is as old as it is"


def test_a_step_between_two_notes_of_agreement_is_seen(tmp_path: Path) -> None:
    wall, running = [T], [1000.0]
    clock = BelievedClock(tmp_path, lambda: wall[0], lambda: running[0], lambda: "a")
    clock.agree(to_moment(T))
    for set_to in (T - 10 * YEAR, T):
        running[0] += 20
        wall[0] = set_to + (running[0] - 1000)
        # the service answers, and says the right time
        clock.agree(to_moment(T + running[0] - 1000))
    made = int(T - 10 * YEAR + 25)
    assert clock.believed().since(made) > T - DAY
