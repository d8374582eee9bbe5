"""What goes with nobody there, and what is left to a person."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from phylax.core.retention import Scope
from phylax.core.scheduling.routines import (
    RoutineStep,
    RunStep,
    StepKind,
    StepState,
    agents_part,
    in_order,
    shipped,
)
from phylax.core.tuning.changes import Change, ChangeState
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.trials import Outcome
from phylax.core.tuning.unattended import Waits, why_it_waits
from phylax.core.tuning.verdicts import Verdict

GOES = Verdict(changes=True, value="on demand", source=Scope.SHOP)
ASKS = Verdict(changes=True, value="off", source=Scope.SHOP, needs_approval=True)


def change(state: ChangeState = ChangeState.MADE, after: Intent = Intent.ON_DEMAND) -> Change:
    return Change(
        number=1, machine_id=1, run_id=1, program="p", name="P", before=Intent.AT_START,
        after=after, at=datetime(2026, 3, 2, tzinfo=UTC), who="Wren", state=state,
    )  # fmt: skip


def in_runs(many: int) -> list[Change]:
    return [change().model_copy(update={"run_id": number}) for number in range(many)]


@pytest.mark.parametrize(
    ("verdict", "history", "outcome", "put_right", "why"),
    [
        (GOES, [], None, False, None),
        (ASKS, [], None, True, Waits.NEEDS_YES),
        (GOES, [change(ChangeState.PUT_BACK)], None, True, Waits.PUT_BACK),
        (GOES, [change(ChangeState.ALTERED)], None, True, Waits.PUT_BACK),
        (GOES, [change(ChangeState.UNDONE)], None, True, Waits.UNDONE),
        (GOES, [change()], Outcome.WORSE, True, Waits.MADE_WORSE),
        (GOES, [change()], Outcome.HELPED, False, Waits.ALTERED),
        (GOES, [change()], None, True, None),
        (GOES, in_runs(3), None, True, None),
        (GOES, in_runs(4), None, True, Waits.TOO_OFTEN),
        # a program of four people is set once in a run
        (GOES, [change()] * 4, None, True, None),
        # somebody put it back long ago, and somebody set it again since
        (GOES, [change(), change(ChangeState.PUT_BACK)], Outcome.OPEN, True, None),
        (GOES, [change(after=Intent.AFTER_START), *in_runs(4)], None, True, None),
    ],
)
def test_what_somebody_decided_is_not_decided_again(
    verdict: Verdict, history: list[Change], outcome: Outcome | None, put_right: bool, why: Waits
) -> None:
    assert why_it_waits(verdict, history, outcome, put_right=put_right) is why


def test_tuning_has_its_place_and_brings_its_look() -> None:
    kinds = [StepKind.RESTART, StepKind.TUNE]
    ordered = in_order([RoutineStep(kind=kind) for kind in kinds])
    assert [step.kind for step in ordered.steps] == [
        StepKind.SURVEY, StepKind.TUNE, StepKind.RESTART
    ]  # fmt: skip
    assert any("read before they change" in note for note in ordered.put_right)
    clean = RoutineStep(kind=StepKind.CLEAN, categories=("trash",))
    ordered = in_order([RoutineStep(kind=StepKind.TUNE), clean])
    assert [step.kind for step in ordered.steps] == [
        StepKind.SURVEY, StepKind.CLEAN, StepKind.SECOND_LOOK, StepKind.TUNE
    ]  # fmt: skip


def test_tuning_is_a_part_of_its_own() -> None:
    kinds = [StepKind.SURVEY, StepKind.CLEAN, StepKind.SECOND_LOOK, StepKind.TUNE, StepKind.RESTART]
    steps = [RunStep(number=number, kind=kind) for number, kind in enumerate(kinds, 1)]
    assert [step.kind for step in agents_part(steps)] == kinds[:3]
    done = [s.model_copy(update={"state": StepState.DONE}) if s.number < 4 else s for s in steps]
    assert [step.kind for step in agents_part(done)] == [StepKind.TUNE]


def test_routines_that_come_with_it_tune() -> None:
    with_tuning = [
        key for key, routine in shipped().items()
        if StepKind.TUNE in [step.kind for step in routine.steps]
    ]  # fmt: skip
    assert with_tuning == ["thorough-monthly", "before-hand-over"]
