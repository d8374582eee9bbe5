"""The nearest scope wins field by field; the judge keeps what is too young, open or off."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from phylax.core.retention import Caution, Judge, Reason, Rule, Scope, in_force

NOW = datetime(2026, 3, 2, 12, tzinfo=UTC)
DEFAULT = (Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=30)))


def age(**span: float) -> int:
    return int((NOW - timedelta(**span)).timestamp())


def test_a_field_left_out_says_nothing() -> None:
    rule = in_force([DEFAULT, (Scope.SHOP, Rule()), (Scope.MACHINE, Rule(keep_for="P14D"))])
    assert (rule.keep_for.days, rule.keep_for_from, rule.off_from) == (14, "machine", "catalogue")
    assert rule.in_words() == "keep for 14 days"


def test_a_nearer_span_lifts_a_farther_off_but_not_its_own() -> None:
    off_by_default = (Scope.CATALOGUE, Rule(off=True, keep_for="P90D"))
    lifted = in_force([off_by_default, (Scope.MACHINE, Rule(keep_for="P60D"))])
    assert (lifted.off, lifted.source) == (False, Scope.MACHINE)
    still_off = in_force([off_by_default, (Scope.MACHINE, Rule(off=True, keep_for="P60D"))])
    assert still_off.off


@given(st.lists(st.tuples(st.none() | st.booleans(), st.none() | st.integers(0, 900)), max_size=3))
def test_the_nearest_span_said_is_the_one_in_force(
    said: list[tuple[bool | None, int | None]],
) -> None:
    scopes = [Scope.SHOP, Scope.CLIENT, Scope.MACHINE]
    rules = [
        (scope, Rule(off=off, keep_for=None if days is None else timedelta(days=days)))
        for scope, (off, days) in zip(scopes, said, strict=False)
    ]
    merged = in_force([DEFAULT, *rules])
    spans = [(s, r.keep_for) for s, r in [DEFAULT, *rules] if r.keep_for is not None]
    assert (merged.keep_for_from, merged.keep_for) == spans[-1]


@pytest.mark.parametrize("span", ["-P1D", "P3651D"])
def test_a_span_that_cannot_be_meant_is_refused(span: str) -> None:
    with pytest.raises(ValidationError, match="allowed are 0 days to 3,650 days"):
        Rule(keep_for=span)


@pytest.mark.parametrize(
    ("rule", "caution", "aged_from", "more", "reason"),
    [
        (DEFAULT, Caution.SAFE, age(days=31), {}, None),
        (DEFAULT, Caution.SAFE, age(days=30), {}, None),
        (DEFAULT, Caution.SAFE, age(days=29, hours=23), {}, Reason.TOO_YOUNG),
        (DEFAULT, Caution.SAFE, age(days=-5), {}, Reason.TOO_YOUNG),
        (DEFAULT, Caution.SAFE, age(days=31), {"in_use": True}, Reason.IN_USE),
        (DEFAULT, Caution.SAFE, age(days=31), {"program_open": True}, Reason.PROGRAM_OPEN),
        (DEFAULT, Caution.REPORT, age(days=31), {}, Reason.REPORT_ONLY),
        ((Scope.SHOP, Rule(off=True, keep_for="P1D")), Caution.SAFE, age(days=9), {}, Reason.OFF),
    ],
)
def test_verdicts(
    rule: tuple[Scope, Rule], caution: Caution, aged_from: int, more: dict, reason: Reason | None
) -> None:
    judge = Judge(in_force([rule]), caution, NOW)
    assert judge.why_stays(aged_from, **more) is reason


def test_only_what_stood_in_the_way_makes_a_cleaning_partial() -> None:
    stuck = {reason for reason in Reason if reason.should_have_gone}
    assert stuck == {
        Reason.IN_USE, Reason.PROGRAM_OPEN, Reason.CHANGED, Reason.NO_RIGHT, Reason.FAILED,
    }  # fmt: skip
