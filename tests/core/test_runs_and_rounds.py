"""How runs end, when rounds fall due, and what must not be asked of them."""

from datetime import UTC, datetime

import pytest
from pydantic import ValidationError

from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.tally import Tally
from phylax.core.protocol import CategoryOutcome, ResultMessage
from phylax.core.retention import Reason
from phylax.core.runs.runs import NewRun, RunState, conclude, in_a_sentence
from phylax.core.scheduling.rounds import RoundEdit
from phylax.core.survey import SkippedSum

NOW = datetime(2026, 3, 2, 18, 30, tzinfo=UTC)


def result(*stays: tuple[Reason, int], **more: object) -> ResultMessage:
    outcome = CategoryOutcome(
        category="user-temp",
        removed=Tally(count=3, size=3 * 2**20),
        left=tuple(SkippedSum(reason=reason, count=n, size=n) for reason, n in stays),
        unread_count=int(more.pop("unread", 0)),
    )
    return ResultMessage.model_validate(
        {"id": "result-1", "run_id": 1, "started_at": NOW, "ended_at": NOW,
         "outcomes": (outcome,), **more}
    )  # fmt: skip


@pytest.mark.parametrize(
    ("ended", "state"),
    [
        (result(), RunState.DONE),
        (result((Reason.TOO_YOUNG, 9), (Reason.NOT_AGREED, 2)), RunState.DONE),
        (result((Reason.IN_USE, 1)), RunState.PARTLY),
        (result(unread=2), RunState.PARTLY),
        (result(error="the disk said no"), RunState.FAILED),
        (result((Reason.IN_USE, 1), cancelled=True), RunState.CALLED_OFF),
    ],
)
def test_a_run_ends_as_its_outcomes_say(ended: ResultMessage, state: RunState) -> None:
    assert conclude(ended).state is state


def test_what_came_free_is_read_off_the_volumes_that_were_there_before_and_after() -> None:
    def reading(mount: str, free: int) -> ReadingIn:
        return ReadingIn(mount=mount, capacity=100, free=free, at=NOW)

    ended = conclude(
        result(before=(reading("/", 10), reading("/old", 5)), after=(reading("/", 17),))
    )
    assert ended.freed == 7
    assert in_a_sentence("clean", ended) == (
        "Removed 3 items, 3.0 MiB; the volumes show 7 B more free."
    )
    assert conclude(result()).freed is None


ROUND = {
    "name": "Light weekly", "recurrence": "FREQ=WEEKLY;BYDAY=TU", "at": "18:30",
    "starts_on": "2026-03-01", "machine_ids": [1, 1, 2], "routine_id": 1,
}  # fmt: skip


def test_a_round_names_each_machine_once() -> None:
    assert RoundEdit.model_validate(ROUND).machine_ids == (1, 2)


@pytest.mark.parametrize(
    ("change", "complaint"),
    [
        ({"recurrence": None}, "how often, or below which share"),
        ({"machine_ids": []}, "choose machines, clients or a filter"),
        ({"catch_up": "PT0S"}, "at least 10 minutes"),
        ({"recurrence": "FREQ=HOURLY"}, "FREQ must be one of"),
        ({"catch_up": "P30D"}, "between nothing and 14 days"),
        ({"at": "18:30:00+02:00"}, "local to the shop"),
        ({"machines": [1]}, "Extra inputs"),
    ],
)
def test_a_round_that_cannot_be_meant_is_refused(change: dict, complaint: str) -> None:
    with pytest.raises(ValidationError, match=complaint):
        RoundEdit.model_validate(ROUND | change)


@pytest.mark.parametrize("wrong", [{"work": "clean"}, {"work": "survey", "categories": ["trash"]}])
def test_a_run_says_what_to_clean_and_a_survey_does_not(wrong: dict) -> None:
    with pytest.raises(ValidationError):
        NewRun.model_validate({"machine_id": 1} | wrong)
