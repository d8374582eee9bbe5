"""What a trial finds, on simulated machines whose true effect is known; against a plain rank test
of the totals at the same looks and the same chances (the yardstick), and against "the median is 5 %
lower". Every figure is a share of trials. Bounded: it stops by itself.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime
from statistics import median

from phylax.core.tuning.ranks import lower
from phylax.core.tuning.trials import (
    CHANCE,
    HELD_BACK,
    LOOKS,
    MachineTrial,
    Outcome,
    Start,
    judge,
    judge_half_first,
)

TURNS = 600
ODD = 0.12
SHARE = 0.2
"""Of a start's cost what is attributable to what is changed; with it gone, a fifth less."""
OTHERS = 6
"""Other programs that take part in a start."""
AT = datetime(2026, 3, 2, tzinfo=UTC)


def start(
    dice: random.Random, noise: float, *, own: float, drift: float, change: float = 0.0
) -> Start:
    """One start: noise of the whole and of each program, and one in eight odd as a whole."""
    odd = dice.uniform(1.3, 3.0) if dice.random() < ODD else 1.0
    whole = odd * drift * dice.lognormvariate(0, noise * 0.7)
    others = {
        f"program {number}": 100 * (1 - SHARE) / OTHERS * whole * dice.lognormvariate(0, noise)
        for number in range(OTHERS)
    }
    others["program 0"] += 100 * change * whole * dice.lognormvariate(0, noise)
    return Start(
        boot="-",
        at=AT,
        own=100 * SHARE * own * whole * dice.lognormvariate(0, noise),
        rest=sum(others.values()),
        others=others,
    )


def machine(
    dice: random.Random,
    noise: float,
    starts: int,
    *,
    helps: bool,
    drift: float = 0.0,
    slow_first: bool = False,
    moves: bool = False,
) -> tuple[list[Start], list[Start]]:
    """Starts before and after. `drift` is the change of cost from start to start; `slow_first`
    begins the trial only once two slow starts came one after the other; `moves`: what is saved is
    spent by another program."""
    before: list[Start] = []
    at = 0
    while True:
        before.append(start(dice, noise, own=1, drift=(1 + drift) ** at))
        at += 1
        enough = len(before) >= 20
        if enough and (not slow_first or at > 200):
            break
        if enough and min(s.total for s in before[-2:]) > median(s.total for s in before[-20:]):
            break
    after = [
        start(
            dice, noise, own=0.02 if helps or moves else 1, drift=(1 + drift) ** (at + n),
            change=SHARE if moves else 0.0,
        )
        for n in range(starts)
    ]  # fmt: skip
    return before, after


def ours(before: list[Start], after: list[Start]) -> bool:
    return judge(before, after).outcome is Outcome.HELPED


def totals(before: list[Start], after: list[Start]) -> bool:
    base = [s.total for s in before][:-HELD_BACK]
    return any(
        len(after) >= look and lower([s.total for s in after[:look]], base) <= chance
        for look, chance in zip(LOOKS, CHANCE, strict=True)
    )


def five_per_cent(before: list[Start], after: list[Start]) -> bool:
    return median(s.total for s in after) < 0.95 * median(s.total for s in before[-len(after) :])


def worse_by_totals(before: list[Start], after: list[Start]) -> bool:
    base = [s.total for s in before][:-HELD_BACK]
    return any(
        len(after) >= look and lower(base, [s.total for s in after[:look]]) <= chance
        for look, chance in zip(LOOKS, CHANCE, strict=True)
    )


def worse(dice: random.Random, turns: int) -> None:
    print("\n`made it worse`, though nothing changed")
    for name, more in {
        "steady": {},
        "drifting 1 % a start dearer": {"drift": 0.01},
        "begun after slow starts": {"slow_first": True},
    }.items():
        counts: Counter[str] = Counter()
        for _ in range(turns):
            before, after = machine(dice, 0.15, 20, helps=False, **more)  # type: ignore[arg-type]
            counts["ours"] += judge(before, after).outcome is Outcome.WORSE
            counts["totals"] += worse_by_totals(before, after)
        print(
            f"  {name:30}",
            f"ours: {counts['ours'] / turns:6.1%} totals by ranks: {counts['totals'] / turns:6.1%}",
        )
    print("\n`made it worse`, where another program takes more than was saved, noise 10 %")
    for by in (0.15, 0.3):
        for starts in LOOKS:
            noticed = sum(
                judge(
                    [start(dice, 0.1, own=1, drift=1) for _ in range(20)],
                    [start(dice, 0.1, own=0.02, drift=1, change=SHARE + by) for _ in range(starts)],
                ).outcome
                is Outcome.WORSE
                for _ in range(turns)
            )
            print(f"  {by:.0%} dearer, {starts:2} starts: ours: {noticed / turns:6.1%}")


def share_of(turns: int, tried: Callable[[], bool]) -> float:
    return sum(tried() for _ in range(turns)) / turns


def main(turns: int = TURNS) -> None:
    dice = random.Random(20260302)
    judges = {"ours": ours, "totals by ranks": totals, "median 5 % lower": five_per_cent}
    print(f"trials: {turns} simulated each, {ODD:.0%} odd starts")
    print("\n`helped`, though nothing changed (all looks together; at most 5 %)")
    for name, more in {
        "steady": {},
        "drifting 1 % a start dearer": {"drift": 0.01},
        "drifting 1 % a start cheaper": {"drift": -0.01},
        "begun after slow starts": {"slow_first": True},
        "the saving moved elsewhere": {"moves": True},
    }.items():
        counts: Counter[str] = Counter()
        for _ in range(turns):
            before, after = machine(dice, 0.15, 20, helps=False, **more)  # type: ignore[arg-type]
            counts.update(name for name, judged in judges.items() if judged(before, after))
        print(f"  {name:30}", *(f"{who}: {counts[who] / turns:6.1%}" for who in judges))
    print("\n`helped`, where a fifth less was true")
    for noise in (0.1, 0.2):
        for starts in LOOKS:
            counts = Counter()
            for _ in range(turns):
                before, after = machine(dice, noise, starts, helps=True)
                counts.update(name for name, judged in judges.items() if judged(before, after))
            print(
                f"  noise {noise:.0%}, {starts:2} starts:     ",
                *(f"{who}: {counts[who] / turns:6.1%}" for who in judges),
            )
    worse(dice, turns)
    print("\nhalf first: `helped` (nothing changed / a fifth less), 5 starts each, 1 % drift")
    for many in (14, 30):
        for noise in (0.1, 0.2):
            rates = [
                share_of(turns, lambda: _half(dice, many, noise, helps))  # noqa: B023
                for helps in (False, True)
            ]
            print(f"  {many} machines, noise {noise:.0%}: {rates[0]:6.1%} / {rates[1]:6.1%}")


def _half(dice: random.Random, many: int, noise: float, helps: bool) -> bool:
    trials = []
    for number in range(many):
        is_changed = number % 2 == 0
        before, after = machine(dice, noise, 5, helps=helps and is_changed, drift=-0.01)
        trials.append(
            MachineTrial(
                machine_id=number, changed=is_changed, before=tuple(before), after=tuple(after)
            )
        )
    return judge_half_first(trials).outcome is Outcome.HELPED


if __name__ == "__main__":
    main()
