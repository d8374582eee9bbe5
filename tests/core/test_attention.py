"""What needs a person, in order, each with evidence and the next step."""

from datetime import UTC, datetime, timedelta

import pytest

from helpers import TUESDAY
from phylax.core.attention import Cause, NextStep, Standing, needs_you
from phylax.core.rounds import Round
from phylax.core.runs import Run, RunState
from phylax.core.shop import Machine, Volume
from phylax.core.survey import Tally
from phylax.core.today import in_a_sentence

NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)
LITTLE, MUCH = Tally(count=1, size=3), Tally(count=1, size=20)


def standing(used: int = 50, state: RunState | None = None, **more: object) -> Standing:
    seen = more.pop("seen", NOW)
    machine = Machine(
        id=1, tag="vet-xray", client_id=1, client_name="Gannet Row", system="windows", version=1,
        enrolled=True, seen_at=seen,
        volumes=(Volume(id=1, mount="C:", capacity=1000, free=1000 - 10 * used),),
    )  # fmt: skip
    run = state and Run(
        id=7, machine_id=1, machine_tag="vet-xray", client_name="Gannet Row", work="clean",
        state=state, reason="why", made_by="Ines", made_at=NOW, due_at=NOW, ended_at=NOW,
    )  # fmt: skip
    return Standing(machine=machine, now=NOW, threshold_percent=90, last_run=run or None, **more)


@pytest.mark.parametrize(
    ("found", "cause", "step"),
    [
        (standing(91), Cause.NEARLY_FULL, NextStep.LOOK),
        (standing(91, looked_at=NOW, can_go=MUCH), Cause.NEARLY_FULL, NextStep.CLEAN),
        (standing(94, looked_at=NOW, can_go=LITTLE), Cause.NEARLY_FULL, NextStep.ASK_CLIENT),
        (standing(state=RunState.FAILED), Cause.RUN_FAILED, NextStep.RUN_AGAIN),
        (standing(state=RunState.PARTLY), Cause.LEFT, NextStep.LOOK),
        (standing(state=RunState.MISSED, missed_in_a_row=3), Cause.MISSED, NextStep.RUN_AGAIN),
        (standing(waits_for_yes=MUCH), Cause.WAITS_FOR_YES, NextStep.DECIDE),
        (standing(seen=NOW - timedelta(days=8)), Cause.SILENT, NextStep.ASK_CLIENT),
    ],
)
def test_each_cause_by_example(found: Standing, cause: Cause, step: NextStep) -> None:
    (attention,) = needs_you([found])
    assert (attention.cause, attention.next_step) == (cause, step)
    assert attention.evidence


@pytest.mark.parametrize(
    "fine",
    [
        standing(90),
        standing(state=RunState.DONE),
        standing(state=RunState.MISSED, missed_in_a_row=1),
        standing(waits_for_yes=Tally()),
        standing(seen=NOW - timedelta(days=6)),
    ],
)
def test_what_is_fine_needs_nobody(fine: Standing) -> None:
    assert needs_you([fine]) == []


def test_the_fullest_comes_first() -> None:
    found = needs_you([standing(state=RunState.PARTLY), standing(97), standing(92)])
    assert [a.reason for a in found][:2] == ["C: is 97 % full", "C: is 92 % full"]


def test_the_shop_in_a_sentence() -> None:
    round_ = Round(
        id=1, name="r", plan=TUESDAY, routine_name="Light weekly", how_often="", machines=1,
        version=1, next_at=NOW + timedelta(hours=9),
    )  # fmt: skip
    assert in_a_sentence([], [], NOW) == "Nothing needs you. No round runs in the next 24 hours."
    assert in_a_sentence(needs_you([standing(92)]), [round_] * 2, NOW) == (
        "One machine needs you. Two rounds run in the next 24 hours, the first at 18:00."
    )
