"""Whether a change helped: never where nothing changed, nor where something else took the work."""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from itertools import combinations
from statistics import median

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.tuning.ranks import lower, shift
from phylax.core.tuning.trials import (
    HELD_BACK,
    LOOKS,
    LeftOut,
    MachineTrial,
    Outcome,
    Start,
    judge,
    judge_half_first,
)

BEGUN = datetime(2026, 3, 2, 8, tzinfo=UTC)
values = st.lists(st.integers(0, 6).map(float), min_size=1, max_size=6)


@given(values, values)
def test_the_rank_test_is_what_counting_all_ways_says(
    after: list[float], before: list[float]
) -> None:
    """By its definition: each way to part the values is as likely as the others."""
    together = [*after, *before]

    def rank_sum(chosen: Sequence[float]) -> float:
        return sum(
            sum(v < c for v in together) + (sum(v == c for v in together) + 1) / 2 for c in chosen
        )

    observed = rank_sum(after)
    ways = [rank_sum([together[place] for place in places])
            for places in combinations(range(len(together)), len(after))]  # fmt: skip
    expected = sum(way <= observed + 1e-9 for way in ways) / len(ways)
    assert lower(after, before) == pytest.approx(expected)


def test_the_shift_holds_the_truth_as_often_as_it_says() -> None:
    dice = random.Random(7)
    held = 0
    for _ in range(400):
        before = [dice.gauss(0, 1) for _ in range(12)]
        after = [dice.gauss(-0.7, 1) for _ in range(8)]
        least, likely, most = shift(after, before)
        assert least <= likely <= most
        held += least <= -0.7 <= most
    assert held / 400 >= 0.87  # 90 % is said; 400 turns


def test_nothing_to_compare_says_nothing() -> None:
    assert lower([], [1.0]) == lower([1.0], []) == 1.0
    with pytest.raises(ValueError, match="at least one"):
        shift([], [1.0])


def starts(costs: Sequence[float], own: float | None = 20, **others: float) -> list[Start]:
    """Starts on following days, each so many times as dear."""
    return [
        Start(
            boot=f"boot-{day}", at=BEGUN + timedelta(days=day),
            own=None if own is None else own * dear, rest=sum(others.values()) * dear,
            others={name: cost * dear for name, cost in others.items()},
        )
        for day, dear in enumerate(costs)
    ]  # fmt: skip


REST = {"mail": 20.0, "chat": 20.0, "desk": 20.0, "search": 20.0}
STEADY = [1.0, 1.02, 0.98, 1.01, 0.99, 1.03, 0.97, 1.0, 2.4, 1.0]


def test_what_is_gone_helped_at_the_first_look() -> None:
    judged = judge(starts(STEADY, **REST), starts(STEADY[:5], own=0.2, **REST))
    assert (judged.outcome, judged.judged_after, judged.next_judged_after) == (
        Outcome.HELPED,
        5,
        None,
    )
    assert judged.likely == pytest.approx(-0.2, abs=0.03)


def test_a_saving_that_another_program_took_is_none() -> None:
    taken = {**REST, "search": 40.0}
    after = starts([*STEADY, *STEADY], own=0.2, **taken)
    assert judge(starts([*STEADY, *STEADY], **REST), after).outcome is Outcome.OPEN


def test_a_saving_by_which_all_else_took_more_made_it_worse() -> None:
    dearer = {name: 3 * cost for name, cost in REST.items()}
    judged = judge(starts(STEADY, **REST), starts(STEADY[:5], own=0.2, **dearer))
    assert judged.outcome is Outcome.WORSE
    assert judged.own_after is not None and judged.own_before is not None
    assert judged.own_after < judged.own_before


def test_a_program_that_took_the_work_does_not_make_starts_look_dear() -> None:
    """What tells how dear a start was must not be moved by what is looked for."""
    dice = random.Random(5)

    def some(many: int, *, own: float, search: float) -> list[Start]:
        made = []
        for start in starts([1.0] * many, own=own, **{**REST, "search": search}):
            whole = dice.lognormvariate(0, 0.1) * (2 if dice.random() < 0.12 else 1)
            others = {n: c * whole * dice.lognormvariate(0, 0.15) for n, c in start.others.items()}
            cost = (start.own or 0) * whole * dice.lognormvariate(0, 0.15)
            fields = {"own": cost, "others": others, "rest": sum(others.values())}
            made.append(start.model_copy(update=fields))
        return made

    taken = sum(
        judge(some(22, own=20, search=20), some(20, own=0.4, search=40)).outcome is Outcome.HELPED
        for _ in range(60)
    )
    saved = sum(
        judge(some(22, own=20, search=20), some(5, own=0.4, search=20)).outcome is Outcome.HELPED
        for _ in range(60)
    )
    assert taken <= 8 and saved >= 54, (taken, saved)


def test_dearer_is_said_and_odd_starts_alone_are_not() -> None:
    assert (
        judge(starts(STEADY, **REST), starts(STEADY[:5], own=60, **REST)).outcome is Outcome.WORSE
    )
    odd = [2.0, 1.9, 2.5, 1.0, 3.0]
    assert judge(starts(STEADY, **REST), starts(odd, **REST)).outcome is not Outcome.HELPED


def test_it_is_judged_at_its_looks_and_never_between() -> None:
    base = starts(STEADY, **REST)
    for many in range(LOOKS[1]):
        judged = judge(base, starts([1.0] * many, **REST))
        assert judged.judged_after == (0 if many < LOOKS[0] else LOOKS[0])
        assert judged.next_judged_after == (LOOKS[0] if many < LOOKS[0] else LOOKS[1])
    assert judge(base, starts([1.0] * 30, **REST)).next_judged_after is None


def test_starts_that_say_nothing_do_not_count() -> None:
    slow = [
        start.model_copy(update={"left_out": LeftOut.AFTER_UPDATES})
        for start in starts([9.0] * 9, **REST)
    ]
    after = [*slow, *starts([1.0] * 5, own=0.2, **REST)]
    judged = judge([*starts(STEADY, **REST), *slow], after)
    assert (judged.outcome, judged.starts) == (Outcome.HELPED, 5)
    assert judge(starts([1.0] * 6, **REST), after).outcome is Outcome.OPEN, "too few before"


def test_without_attribution_the_total_decides() -> None:
    dear = [100 * cost for cost in STEADY]
    base, less = starts(dear, own=None, all=1), starts([70.0] * 5, own=None, all=1)
    assert judge(base, less).outcome is Outcome.HELPED
    assert judge(base, starts([140.0] * 5, own=None, all=1)).outcome is Outcome.WORSE
    assert judge(base, starts(dear[:5], own=None, all=1)).outcome is Outcome.OPEN


def test_false_alarms_stay_rare_whatever_the_machine_does() -> None:
    """Odd starts, a cost that drifts, and a trial begun after slow starts: a small bench."""
    dice = random.Random(11)
    alarms = 0
    for turn in range(150):
        drift = (0.99, 1.0, 1.01)[turn % 3]

        def cost(day: int, drift: float = drift) -> float:
            odd = dice.uniform(1.3, 3) if dice.random() < 0.12 else 1.0
            return drift**day * odd * dice.lognormvariate(0, 0.15)

        before = [cost(day) for day in range(20)]
        while median(before[-2:]) < median(before[-20:]):
            before.append(cost(len(before)))
        after = [cost(len(before) + day) for day in range(20)]
        alarms += judge(starts(before, **REST), starts(after, **REST)).outcome is Outcome.HELPED
    assert alarms / 150 <= 0.05


def test_half_first_takes_out_what_moved_every_machine() -> None:
    def machine(number: int, *, changed: bool, after: float) -> MachineTrial:
        wobble = 1 + number / 300
        base = starts([cost * wobble for cost in STEADY], **REST)
        later = starts([cost * wobble * after for cost in STEADY[:5]], **REST)
        return MachineTrial(
            machine_id=number, changed=changed, before=tuple(base), after=tuple(later)
        )

    def trial(changed: float, others: float) -> list[MachineTrial]:
        return [
            machine(
                n, changed=n % 2 == 0, after=(changed if n % 2 == 0 else others) * (1 + n / 500)
            )
            for n in range(14)
        ]

    assert judge_half_first(trial(0.7, 0.7)).outcome is Outcome.OPEN, "all of them got cheaper"
    helped = judge_half_first(trial(0.6, 0.75))
    assert helped.outcome is Outcome.HELPED
    assert helped.likely == pytest.approx(-0.2, abs=0.05)
    assert judge_half_first(trial(0.9, 0.75)).outcome is Outcome.WORSE
    few = [m for m in trial(0.5, 1.0) if m.machine_id < 4]
    assert judge_half_first(few).outcome is Outcome.OPEN


def test_the_newest_starts_before_it_are_left_out() -> None:
    """A trial begun because the last starts were slow would else help by itself."""
    base = [*STEADY, *[3.0] * HELD_BACK]
    judged = judge(starts(base, **REST), starts([1.0] * 20, **REST))
    assert judged.outcome is Outcome.OPEN
