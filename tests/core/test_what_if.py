"""What-if says what a survey under that rule would find, exactly where it can, and where not."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.retention import Caution, Judge, Ranking, Rule, Scope, in_force
from phylax.core.retention.rules import PressureStep, RuleInForce
from phylax.core.survey import LineCount, SurveyedItem, SurveyLine, merged
from phylax.core.survey.what_if import (
    STALE_AFTER,
    Concerned,
    PreparedRule,
    Profile,
    answer,
    packed,
    unpacked,
)

NOW = datetime(2026, 3, 2, 12, tzinfo=UTC)
NOW_S = int(NOW.timestamp())
CAPACITY = 10_000
ITEMS = st.lists(
    st.tuples(
        st.sampled_from("ab"), st.integers(0, 1000 * 86400), st.integers(0, 900), st.booleans()
    ),
    max_size=20,
)
"""(group, seconds of age, size, in use or protected)"""
PRESSURE = (PressureStep(below_percent=20, keep_for=timedelta(days=3)),)


def rule(**said: object) -> RuleInForce:
    default = (Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=30)))
    return in_force([default, (Scope.SHOP, Rule.model_validate(said))])


def survey(items: list, by: RuleInForce, free: int = 5000) -> SurveyLine:
    """What a survey finds, as the agent counts it."""
    ranking = Ranking(by, CAPACITY, NOW_S)
    while ranking.wants_pass:
        for group, age, size, blocked in items:
            if not blocked and size > (by.only_larger or -1):
                ranking.see(group, NOW_S - age, size)
        ranking.pass_done()
    judge = Judge.by(ranking, by, Caution.SAFE, NOW, 100 * free / CAPACITY)
    count = LineCount(NOW_S, by.only_larger or -1)
    for number, (group, age, size, blocked) in enumerate(items):
        reason = judge.why_stays(NOW_S - age, size=size, group=group, in_use=blocked)
        item = SurveyedItem(str(number), size, NOW_S - age, 1, number, size, 1, "", reason, group)
        count.add(item, blocked=blocked)
    return count.line("trash", "/", by, capacity=CAPACITY, free=free)


def profile(line: SurveyLine) -> Profile:
    larger = line.rule.only_larger
    return unpacked(1, NOW_S, line.capacity, line.free, larger, *packed(line), line.people)


@given(ITEMS, st.integers(0, 800), st.integers(0, 800), st.sampled_from([500, 5000]))
def test_another_span_is_answered_to_the_item(
    items: list, surveyed: int, asked: int, free: int
) -> None:
    line = survey(
        items,
        rule(keep_for=timedelta(days=surveyed), pressure=PRESSURE if surveyed > 3 else ()),
        free,
    )
    then = rule(keep_for=timedelta(days=asked), pressure=PRESSURE if asked > 3 else ())
    tally = survey(items, then, free).removable
    without_items = profile(line)._replace(items=b"")
    for known in (profile(line), without_items):
        assert PreparedRule(then, Caution.SAFE).would_go(known) == (tally.count, tally.size, True)


@given(
    ITEMS,
    st.integers(0, 4),
    st.integers(0, 4000),
    st.sampled_from([0, 3, 30]),
    st.sampled_from([0, 100, 400]),
)
def test_counts_and_sizes_are_exact_where_the_survey_kept_the_items(
    items: list, newest: int, under: int, percent: int, larger: int
) -> None:
    known = profile(survey(items, rule()))
    then = rule(
        keep_newest=newest, keep_under=under, keep_under_percent=percent, only_larger=larger
    )
    tally = survey(items, then).removable
    count, size, exact = PreparedRule(then, Caution.SAFE).would_go(known)
    assert (count, size) == (tally.count, tally.size)
    assert exact


@given(ITEMS, st.integers(1, 4000))
def test_a_size_limit_from_sums_alone_is_about_right_and_says_so(items: list, under: int) -> None:
    line = survey(items, rule(keep_for=timedelta(days=800)))
    then = rule(keep_for=timedelta(days=800), keep_under=under)
    found = survey(items, then)
    count, size, exact = PreparedRule(then, Caution.SAFE).would_go(
        profile(line)._replace(items=b"")
    )
    assert not exact or not line.ages
    one_day = max((age.size for age in line.ages), default=0)
    assert abs(size - found.removable.size) <= one_day
    assert (count > 0) == (size > 0) or found.removable.count == 0 or size == 0


@pytest.mark.parametrize(
    ("then", "why"),
    [
        ({"keep_for": timedelta(hours=30)}, "a span that is no whole number of days"),
        ({"keep_for": timedelta(days=801)}, "older than a profile tells apart"),
        ({"only_larger": 50}, "smaller items are not in the profile"),
        ({"keep_newest": 2}, "the profile has no single items"),
    ],
)
def test_what_a_profile_cannot_tell_is_marked(then: dict, why: str) -> None:
    line = survey([("a", 40 * 86400, 500, False)], rule(only_larger=100))
    known = profile(line)._replace(items=b"")
    assert not PreparedRule(rule(**{"only_larger": 100, **then}), Caution.SAFE).would_go(known)[
        2
    ], why


def test_a_limit_on_what_several_have_is_not_called_exact_for_it_is_each_ones() -> None:
    mine, theirs = (survey([("a", 40 * 86400, 500, False)], rule()) for _ in range(2))
    nobodys = survey([], rule())
    limited, plain = (
        PreparedRule(rule(keep_under=600), Caution.SAFE),
        PreparedRule(rule(), Caution.SAFE),
    )
    for lines, people in (([mine], 1), ([mine, nobodys], 1), ([mine, nobodys, theirs], 2)):
        (line,) = merged(lines)
        assert line.people == people
        assert limited.would_go(profile(line))[2] == (people == 1)
        assert plain.would_go(profile(line))[2]


@pytest.mark.parametrize("caution", [Caution.SAFE, Caution.REPORT])
def test_nothing_goes_that_is_off_or_only_listed(caution: Caution) -> None:
    known = profile(survey([("a", 40 * 86400, 500, False)], rule()))
    off = rule(off=True) if caution is Caution.SAFE else rule(keep_for=timedelta(0))
    assert PreparedRule(off, caution).would_go(known) == (0, 0, True)


def test_the_answer_adds_up_names_most_changed_first_and_counts_old_surveys() -> None:
    old = NOW_S - int(STALE_AFTER.total_seconds()) - 1
    lines = {n: survey([("a", 20 * 86400, 100 * n, False)], rule()) for n in (1, 2)}
    profiles = [unpacked(n, at, 1, 1, 0, *packed(lines[n])) for n, at in ((1, NOW_S), (2, old))]
    now, then = rule(), rule(keep_for=timedelta(days=14))
    machines = [
        Concerned(1, "one", "A", NOW_S, now, then),
        Concerned(2, "two", "A", old, now, then),
        Concerned(3, "three", "B", NOW_S, now, then),
        Concerned(4, "four", "B", None, now, then),
    ]
    found = answer("trash", Caution.SAFE, machines, profiles, now=NOW_S)
    assert (found.removable_now.size, found.removable_then.size, found.removable_then.count) == (
        0,
        300,
        2,
    )
    assert (found.machines, found.stale, found.never_surveyed, found.exact) == (3, 1, 1, True)
    assert [(m.machine_tag, m.removable_then.size, m.stale) for m in found.most] == [
        ("two", 200, True), ("one", 100, False), ("three", 0, False),
    ]  # fmt: skip
