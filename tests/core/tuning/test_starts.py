"""What starts cost, split by what was changed, and what it comes to."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from random import Random

import pytest
from pydantic import ValidationError

from phylax.core.tuning.changes import Change, ChangeState
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.starts import BootCost, in_words, trial
from phylax.core.tuning.trials import LeftOut, Outcome

BEGIN = datetime(2026, 3, 2, 8, tzinfo=UTC)
CHANGED = BEGIN + timedelta(days=20, hours=1)
USUAL = {"a": 5.0, "b": 2.0, "c": 3.0, "d": 1.0, "e": 4.0}


def starts(number: int, since: datetime, costs: dict[str, float], seed: int = 1) -> list[BootCost]:
    chance = Random(f"{seed} {since}")
    known_starts = []
    for day in range(number):
        whole = chance.lognormvariate(0, 0.07)
        known_starts.append(
            BootCost(
                boot=f"{since} {day}",
                at=since + timedelta(days=day),
                programs={
                    key: cost * whole * chance.lognormvariate(0, 0.05)
                    for key, cost in costs.items()
                },
                unattributed=9 * whole,
            )
        )
    return known_starts


def change(program: str, run_id: int = 1, at: datetime = CHANGED, **more: object) -> Change:
    return Change.model_validate(
        {
            "number": run_id, "machine_id": 1, "run_id": run_id, "program": program,
            "name": program.upper(), "before": Intent.AT_START, "after": Intent.OFF,
            "at": at, "who": "Wren", "state": ChangeState.MADE, **more,
        }
    )  # fmt: skip


def history(after: dict[str, float], number: int = 10) -> Sequence[BootCost]:
    return [*starts(20, BEGIN, USUAL), *starts(number, CHANGED + timedelta(hours=7), after)]


def without(*keys: str) -> dict[str, float]:
    return {key: cost for key, cost in USUAL.items() if key not in keys}


def test_what_no_longer_starts_has_helped_and_says_by_how_much() -> None:
    judged = trial([change("a")], [], history(without("a")))
    assert judged.judged.outcome is Outcome.HELPED
    assert judged.judged.own_before == pytest.approx(5.0, rel=0.1) and judged.judged.own_after == 0
    assert judged.judged.likely == pytest.approx(-5 / 24, abs=0.07)
    said = in_words(judged)
    assert said.startswith("A: helped after 5 starts; what was changed took 5.")
    assert "% less (between" in said


def test_what_makes_all_else_dearer_made_it_worse_though_it_saved_its_own() -> None:
    dearer = {key: cost * 1.4 for key, cost in without("b").items()}
    known_starts = [
        start.model_copy(update={"unattributed": start.unattributed * 1.4})
        if start.at > CHANGED
        else start
        for start in history(dearer)
    ]
    assert trial([change("b")], [], known_starts).judged.outcome is Outcome.WORSE


def test_a_machine_that_gets_dearer_anyway_is_no_fault_of_the_change() -> None:
    known_starts = [
        start.model_copy(
            update={
                "unattributed": start.unattributed * 1.01**day,
                "programs": {key: cost * 1.01**day for key, cost in (start.programs or {}).items()},
            }
        )
        for day, start in enumerate(history(USUAL, 20))
    ]
    assert trial([change("b")], [], known_starts).judged.outcome is not Outcome.WORSE


def test_another_change_of_the_same_time_is_not_counted_for_it() -> None:
    """A took the most; who changed C as well is judged by C alone."""
    known_starts = history(without("a"))
    others = [change("a", run_id=2)]
    assert trial([change("c")], others, known_starts).judged.outcome is Outcome.OPEN
    assert (
        trial([change("a", run_id=2)], [change("c")], known_starts).judged.outcome is Outcome.HELPED
    )


def test_starts_once_it_is_put_back_say_nothing_of_it() -> None:
    back = CHANGED + timedelta(days=3)
    ended = change("a", state=ChangeState.PUT_BACK, ended_at=back, ended_by="Wren")
    known_starts = [*history(without("a"), 3), *starts(9, back + timedelta(hours=1), USUAL)]
    judged = trial([ended], [], known_starts)
    assert (len(judged.after), judged.ended_at) == (3, back)
    assert judged.judged.outcome is Outcome.OPEN


def test_what_cannot_be_attributed_is_judged_by_the_whole() -> None:
    def whole(start: BootCost, rest: float) -> BootCost:
        return start.model_copy(
            update={"programs": None, "unattributed": rest + start.unattributed / 100}
        )

    known_starts = [whole(s, 20.0) for s in starts(20, BEGIN, USUAL)]
    known_starts += [whole(s, 10.0) for s in starts(10, CHANGED + timedelta(hours=7), USUAL)]
    judged = trial([change("a")], [], known_starts)
    assert judged.judged.outcome is Outcome.HELPED
    assert judged.judged.own_before is None and "what was changed took" not in in_words(judged)


def test_odd_starts_are_left_out() -> None:
    known_starts = [
        start.model_copy(update={"left_out": LeftOut.AFTER_UPDATES})
        if start.at > CHANGED
        else start
        for start in history(without("a"))
    ]
    assert trial([change("a")], [], known_starts).judged.starts == 0


def test_nothing_changed_is_no_trial() -> None:
    with pytest.raises(ValueError, match="changed"):
        trial([], [], history(USUAL))


@pytest.mark.parametrize(
    "odd",
    [
        {"rest": -1}, {"rest": float("nan")}, {"rest": float("inf")}, {"boot": ""},
        {"boot": "x" * 81}, {"programs": {"a": -1.0}},
        {"programs": {f"p{n}": 1.0 for n in range(2001)}}, {"left_out": "because"},
    ],
    ids=str,
)  # fmt: skip
def test_what_no_start_can_cost_is_refused(odd: dict[str, object]) -> None:
    known_starts = {"boot": "b", "at": BEGIN, "rest": 1.0, "programs": {"a": 1.0}}
    with pytest.raises(ValidationError):
        BootCost.model_validate(known_starts | odd)


def test_a_program_with_control_characters_in_its_name_moves_no_cursor() -> None:
    known_starts = BootCost(boot="b", at=BEGIN, unattributed=1.0, programs={"a\x1b[2J": 1.0})
    assert "\x1b" not in str(known_starts.programs)
