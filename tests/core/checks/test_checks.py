"""Results of checks, their kinds, and the time that is left."""

from __future__ import annotations

import random
from datetime import UTC, datetime

import pytest
from pydantic import ValidationError

from phylax.core.checks.findings import (
    MOST_FINDINGS,
    Checked,
    Finding,
    Result,
    Severity,
    could_not_look,
    looked,
)
from phylax.core.checks.kept import StoredCheck, open_findings
from phylax.core.checks.kind import CheckKind, kinds, read_kind
from phylax.core.checks.time_left import Ran, expected, left

AT = datetime(2026, 3, 2, 9, tzinfo=UTC)
NOTE, BAD, WORSE = (
    Finding(severity=severity, what=f"It is {severity}", where="C:", evidence="x")
    for severity in Severity
)


def kept(checked: Checked, **more: object) -> StoredCheck:
    return StoredCheck(id=1, machine_id=1, run_id=1, checked=checked).model_copy(update=more)


def test_a_note_alone_is_clean_and_stops_nothing() -> None:
    checked = looked("file-system", "C:", AT, [NOTE])
    assert checked.result is Result.CLEAN
    assert open_findings(kept(checked)) is None


def test_the_worst_finding_speaks_for_all() -> None:
    checked = looked("file-system", "C:", AT, [NOTE, BAD, WORSE, BAD])
    found = open_findings(kept(checked))
    assert found is not None
    assert (found.severity, found.what, found.more) == (Severity.FAILING, "It is failing", 2)
    assert "It is failing, and 3 more" in checked.in_words
    assert open_findings(kept(checked, settled_at=AT)) is None


def test_more_than_can_be_listed_is_counted() -> None:
    checked = looked("file-system", "C:", AT, [BAD] * (MOST_FINDINGS + 3))
    assert (len(checked.findings), checked.unlisted) == (MOST_FINDINGS, 3)
    found = open_findings(kept(checked))
    assert found is not None and found.more == MOST_FINDINGS + 2


def test_could_not_look_is_no_finding_and_not_clean() -> None:
    checked = could_not_look("file-system", "C:", AT, "it is in use")
    assert (checked.result, checked.in_words) == (
        Result.COULD_NOT_LOOK, "C: could not look, it is in use",
    )  # fmt: skip
    assert open_findings(kept(checked)) is None


@pytest.mark.parametrize(
    "said",
    [
        {"result": "clean", "findings": [BAD]},
        {"result": "findings", "findings": [NOTE]},
        {"result": "findings"},
        {"result": "could not look"},
        {"result": "clean", "why": "x"},
    ],
)
def test_a_machine_cannot_say_one_thing_and_mean_another(said: dict[str, object]) -> None:
    rest = {"check": "file-system", "of": "C:", "started_at": AT, "ended_at": AT}
    with pytest.raises(ValidationError):
        Checked.model_validate(rest | said)


def test_every_kind_is_whole_and_what_findings_stop_is_said() -> None:
    assert {"file-system", "disk-health"} <= kinds().keys()
    assert all("arrange" in kinds()[key].blocks for key in ("file-system", "disk-health"))
    for kind in kinds().values():
        assert kind.why_not(kind.usual_mode) is None
        assert kind.why_not("nonsense")


def test_a_kind_that_stops_itself_is_none() -> None:
    with pytest.raises(ValueError, match="cannot stop itself"):
        read_kind(
            'key="a-b"\norder=1\nname="A"\nnotice="B"\ntarget="disk"\nsystems=["linux"]\nblocks=["a-b"]'
        )
    with pytest.raises(ValidationError):
        CheckKind.model_validate({"key": "A"})


# --- time left ---------------------------------------------------------------------------------


def test_nothing_is_known_before_anything_was_seen() -> None:
    assert left(0, 100, 0.0) is None
    assert left(0, 0, 5.0) is None
    assert expected([]) is None
    assert left(100, 100, 5.0) == 0.0


def test_what_was_learnt_is_told_before_anything_is_seen() -> None:
    assert left(0, 200, 0.0, [Ran(100, 50.0)]) == 100.0
    assert expected([Ran(0, 30.0), Ran(0, 50.0), Ran(0, 40.0)]) == 40.0


@pytest.mark.parametrize("seed", range(20))
def test_in_the_second_half_it_is_within_a_third_of_the_truth(seed: int) -> None:
    """Files of all sizes come in any order; what was learnt is three times too fast."""
    chance = random.Random(seed)
    takes = [chance.lognormvariate(-3, 0.8) for _ in range(2000)]
    total, spent = sum(takes), 0.0
    earlier = [Ran(1000, sum(takes) / 6)]
    for done, seconds in enumerate(takes, start=1):
        spent += seconds
        if done < len(takes) / 2 or total - spent < 1:
            continue
        guess = left(done, len(takes), spent, earlier)
        assert guess is not None
        assert abs(guess - (total - spent)) <= (total - spent) / 3 + 1
