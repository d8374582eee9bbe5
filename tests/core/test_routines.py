"""Routines keep the order that the work demands; lists know whose turn it is."""

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from phylax.core.scheduling.routines import (
    GUESS,
    RoutineEdit,
    RoutineStep,
    RunStep,
    StepKind,
    StepState,
    agents_part,
    current,
    in_order,
    length,
    shipped,
)

SURVEY, SECOND, RESTART = (
    RoutineStep(kind=kind)
    for kind in (StepKind.SURVEY, StepKind.SECOND_LOOK, StepKind.RESTART)
)  # fmt: skip


def clean(*keys: str) -> RoutineStep:
    return RoutineStep(kind=StepKind.CLEAN, categories=keys or ("trash",))


def hand(title: str) -> RoutineStep:
    return RoutineStep(kind=StepKind.BY_HAND, title=title)


def words(*steps: RoutineStep) -> list[str]:
    return [step.title or str(step.kind) for step in in_order(steps).steps]


@pytest.mark.parametrize(
    ("given_steps", "wanted", "told"),
    [
        ([SURVEY, clean(), SECOND], ["survey", "clean", "second look"], ""),
        ([clean()], ["survey", "clean", "second look"], "second look was added"),
        ([clean(), SURVEY], ["survey", "clean", "second look"], "survey was moved"),
        ([RESTART, SURVEY], ["survey", "restart"], "restart was moved"),
        ([hand("a"), SURVEY, hand("b"), clean(), SECOND, hand("c"), RESTART],
         ["a", "survey", "b", "clean", "second look", "c", "restart"], ""),
        ([RESTART, hand("after"), SURVEY], ["survey", "restart", "after"], "restart was moved"),
        ([SURVEY, clean(), hand("between"), SECOND],
         ["survey", "clean", "second look", "between"], "straight behind the cleaning"),
        ([hand("only")], ["only"], ""),
    ],
)  # fmt: skip
def test_a_wrong_order_is_put_right_and_said(
    given_steps: list[RoutineStep], wanted: list[str], told: str
) -> None:
    ordered = in_order(given_steps)
    assert words(*given_steps) == wanted
    assert told in "; ".join(ordered.put_right)
    assert bool(ordered.put_right) == bool(told)


def test_what_stands_twice_is_done_once_with_the_categories_of_both() -> None:
    ordered = in_order([clean("trash"), clean("user-temp", "trash")])
    (step,) = [one for one in ordered.steps if one.kind is StepKind.CLEAN]
    assert step.categories == ("trash", "user-temp")
    assert "done once" in ordered.put_right[0]


@given(st.lists(st.sampled_from([SURVEY, clean(), SECOND, RESTART, hand("x"), hand("y")])))
def test_putting_right_twice_changes_nothing_and_no_step_by_hand_is_lost(
    steps: list[RoutineStep],
) -> None:
    if SECOND in steps and clean() not in steps:
        with pytest.raises(ValueError, match="compares with a cleaning"):
            in_order(steps)
        return
    once = in_order(steps)
    assert in_order(once.steps) == (once.steps, ())
    by_hand = [step.title for step in steps if step.kind is StepKind.BY_HAND]
    assert sorted(s.title for s in once.steps if s.title) == sorted(by_hand)


@pytest.mark.parametrize(
    ("step", "complaint"),
    [
        ({"kind": "clean"}, "names at least one"),
        ({"kind": "survey", "categories": ["trash"]}, "belong to a step 'clean'"),
        ({"kind": "by hand"}, "needs one"),
        ({"kind": "clean", "categories": ["programs"]}, "cannot go unattended"),
        ({"kind": "format"}, "'survey', 'check'"),
    ],
)
def test_a_step_that_cannot_be_meant_is_refused(step: dict, complaint: str) -> None:
    with pytest.raises(ValidationError, match=complaint):
        RoutineEdit.model_validate({"name": "x", "steps": [step]})


def test_the_shipped_ones_are_in_order_and_clean_nothing_that_is_only_reported() -> None:
    assert {"light-weekly", "thorough-monthly", "before-hand-over"} <= shipped().keys()
    for edit in shipped().values():
        assert in_order(edit.steps).put_right == ()


def as_list(*kinds: StepKind, over: int = 0) -> list[RunStep]:
    return [
        RunStep(number=n, kind=kind, state=StepState.DONE if n <= over else StepState.TO_DO)
        for n, kind in enumerate(kinds, 1)
    ]


def test_the_agent_does_in_one_go_what_nobody_stands_between() -> None:
    kinds = (StepKind.BY_HAND, StepKind.SURVEY, StepKind.CLEAN, StepKind.SECOND_LOOK,
             StepKind.RESTART)  # fmt: skip
    assert agents_part(as_list(*kinds)) == ()
    assert [s.number for s in agents_part(as_list(*kinds, over=1))] == [2, 3, 4]
    assert agents_part(as_list(*kinds, over=4)) == ()
    step = current(as_list(*kinds, over=4))
    assert step is not None and step.kind is StepKind.RESTART
    assert current(as_list(*kinds, over=5)) is None


def test_the_length_is_what_it_usually_took() -> None:
    assert length([60, 70, 4000]) == timedelta(seconds=70)
    assert length([], [100, 200]) == timedelta(seconds=150)
    assert length([]) == GUESS
