"""The nearest scope wins field by field; the judge keeps what the rule keeps, and nothing else."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from phylax.core.catalogue import catalogue, category, why_refused
from phylax.core.retention import Caution, Judge, Ranking, Reason, Rule, Scope, in_force
from phylax.core.retention.rules import PressureStep, RuleInForce

NOW = datetime(2026, 3, 2, 12, tzinfo=UTC)
NOW_S = int(NOW.timestamp())
CAPACITY = 1000
DEFAULT = (Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=30)))
DAYS = st.integers(0, 900).map(lambda n: timedelta(days=n))
ITEMS = st.lists(
    st.tuples(st.sampled_from("abc"), st.integers(0, 900 * 86400), st.integers(0, 300)),
    max_size=25,
)
"""(group, seconds of age, size)"""


@st.composite
def rules(draw: st.DrawFn) -> Rule:
    keep_for = draw(DAYS)
    steps = sorted(draw(st.sets(st.integers(1, 99), max_size=3)), reverse=True)
    spans = sorted((draw(st.integers(0, keep_for.days)) for _ in steps), reverse=True)
    return Rule(
        off=False,
        keep_for=keep_for,
        keep_newest=draw(st.integers(0, 4)),
        keep_under=draw(st.integers(0, 2000)),
        keep_under_percent=draw(st.sampled_from([0, 5, 50, 90])),
        only_larger=draw(st.sampled_from([0, 0, 20, 150])),
        pressure=tuple(
            PressureStep(below_percent=below, keep_for=timedelta(days=days))
            for below, days in zip(steps, spans, strict=True)
        ),
    )


def age(**span: float) -> int:
    return int((NOW - timedelta(**span)).timestamp())


def verdicts(
    rule: Rule, items: list[tuple[str, int, int]], free: float = 50.0
) -> list[Reason | None]:
    """What a survey, a cleaning and a what-if decide of these items."""
    merged = in_force([DEFAULT, (Scope.SHOP, rule)])
    ranking = Ranking(merged, CAPACITY, NOW_S)
    while ranking.wants_pass:
        for group, seconds, size in items:
            if size > merged.only_larger or not merged.only_larger:
                ranking.see(group, NOW_S - seconds, size)
        ranking.pass_done()
    judge = Judge.by(ranking, merged, Caution.SAFE, NOW, free)
    return [judge.why_stays(NOW_S - at, size=size, group=g) for g, at, size in items]


# --- scopes ----------------------------------------------------------------------------------


def test_a_field_left_out_says_nothing() -> None:
    rule = in_force([DEFAULT, (Scope.SHOP, Rule()), (Scope.MACHINE, Rule(keep_for="P14D"))])
    assert (rule.keep_for.days, rule.source_of("keep_for"), rule.source_of("off")) == (
        14, "machine", "catalogue",
    )  # fmt: skip
    assert rule.in_words() == "keep for 14 days"


def test_a_nearer_span_lifts_a_farther_off_but_not_its_own() -> None:
    off_by_default = (Scope.CATALOGUE, Rule(off=True, keep_for="P90D"))
    lifted = in_force([off_by_default, (Scope.MACHINE, Rule(keep_for="P60D"))])
    assert (lifted.off, lifted.source) == (False, Scope.MACHINE)
    still_off = in_force([off_by_default, (Scope.MACHINE, Rule(off=True, keep_for="P60D"))])
    assert still_off.off
    assert in_force([off_by_default, (Scope.MACHINE, Rule(keep_newest=2))]).off


@given(st.permutations([Scope.SHOP, Scope.CLIENT, Scope.MACHINE]), st.lists(rules(), min_size=3))
def test_scopes_merge_in_any_order_of_definition_alike(order: list[Scope], said: list) -> None:
    by_scope = dict(zip([Scope.SHOP, Scope.CLIENT, Scope.MACHINE], said, strict=False))
    straight = in_force([DEFAULT, *by_scope.items()])
    assert in_force([*((scope, by_scope[scope]) for scope in order), DEFAULT]) == straight
    assert straight.keep_for == by_scope[Scope.MACHINE].keep_for


def test_a_limit_of_nothing_lifts_a_farther_limit() -> None:
    shop = (Scope.SHOP, Rule(keep_under=500, keep_newest=3))
    rule = in_force([DEFAULT, shop, (Scope.MACHINE, Rule(keep_under=0, keep_newest=0))])
    assert (rule.limit_on(CAPACITY), rule.keep_newest) == (None, 0)
    assert rule.source_of("keep_under") == "machine"


def test_a_rule_without_a_whole_default_is_an_error() -> None:
    with pytest.raises(ValueError, match="must set both off and keep_for"):
        in_force([(Scope.SHOP, Rule(keep_for="P1D"))])


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ({"off": True}, "off"),
        ({"keep_for": "P0D"}, "removed at any age"),
        ({"keep_for": "P0D", "keep_newest": 1}, "keep the newest"),
        ({"keep_newest": 2, "keep_under": 500 * 2**20},
         "keep for 30 days, keep the newest 2, keep under 500.0 MiB"),
        ({"keep_under_percent": 5, "only_larger": 100 * 2**20},
         "keep for 30 days, keep under 5 % of the volume, only larger than 100.0 MiB"),
        ({"pressure": [{"below_percent": 15, "keep_for": "P7D"}], "hold_for": "P3D"},
         "keep for 30 days, 7 days below 15 % free, held 3 days first"),
    ],
)  # fmt: skip
def test_a_rule_reads_as_people_say_it(said: dict, words: str) -> None:
    assert in_force([DEFAULT, (Scope.SHOP, Rule.model_validate(said))]).in_words() == words


# --- verdicts --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("rule", "caution", "aged_from", "more", "reason"),
    [
        (DEFAULT, Caution.SAFE, age(days=31), {}, None),
        (DEFAULT, Caution.SAFE, age(days=30), {}, None),
        (DEFAULT, Caution.SAFE, age(days=29, hours=23), {}, Reason.TOO_YOUNG),
        (DEFAULT, Caution.SAFE, age(days=-5), {}, Reason.DATED_AHEAD),
        (DEFAULT, Caution.SAFE, age(minutes=-10), {}, Reason.TOO_YOUNG),
        (DEFAULT, Caution.SAFE, age(minutes=-10, seconds=-1), {}, Reason.DATED_AHEAD),
        (DEFAULT, Caution.SAFE, age(days=31), {"in_use": True}, Reason.IN_USE),
        (DEFAULT, Caution.SAFE, age(days=31), {"program_open": True}, Reason.PROGRAM_OPEN),
        (DEFAULT, Caution.SAFE, age(days=31), {"protected": True}, Reason.PROTECTED),
        (DEFAULT, Caution.REPORT, age(days=31), {}, Reason.REPORT_ONLY),
        ((Scope.SHOP, Rule(off=True, keep_for="P1D")), Caution.SAFE, age(days=9), {}, Reason.OFF),
        ((Scope.SHOP, Rule(off=False, keep_for="P1D", only_larger=10)), Caution.SAFE, age(days=9),
         {"size": 10}, Reason.NOT_LARGER),
    ],
)  # fmt: skip
def test_verdicts(
    rule: tuple[Scope, Rule], caution: Caution, aged_from: int, more: dict, reason: Reason | None
) -> None:
    judge = Judge(in_force([rule]), caution, NOW)
    assert judge.why_stays(aged_from, **more) is reason


@given(rules(), ITEMS, st.floats(0, 100))
def test_the_newest_of_each_group_stay_whatever_else(rule: Rule, items: list, free: float) -> None:
    reasons = verdicts(rule, items, free)
    for group in "abc":
        mine = [
            (at, reason)
            for (g, at, size), reason in zip(items, reasons, strict=True)
            if g == group and (size > (rule.only_larger or 0) or not rule.only_larger)
        ]
        newest = sorted(mine, key=lambda one: one[0])[: rule.keep_newest or 0]
        assert all(reason is not None for _, reason in newest)


@given(rules(), ITEMS)
def test_what_a_size_limit_keeps_fits_in_it_and_the_oldest_go_first(
    rule: Rule, items: list
) -> None:
    rule = rule.model_copy(
        update={"keep_newest": 0, "only_larger": 0, "pressure": (), "keep_for": timedelta(3650)}
    )
    limit = in_force([DEFAULT, (Scope.SHOP, rule)]).limit_on(CAPACITY)
    reasons = verdicts(rule, items)
    stay = [(at, size) for (_, at, size), r in zip(items, reasons, strict=True) if r is not None]
    gone = [(at, size) for (_, at, size), r in zip(items, reasons, strict=True) if r is None]
    if limit is not None:
        assert sum(size for _, size in stay) <= limit
        assert not gone or not stay or max(at for at, _ in stay) < min(at for at, _ in gone)
    if gone and limit is not None:
        youngest_gone = min(at for at, _ in gone)
        back = sum(size for at, size in gone if at == youngest_gone)
        assert sum(size for _, size in stay) + back > limit, "no more goes than must"


@st.composite
def a_rule_and_one_that_keeps_more(draw: st.DrawFn) -> tuple[Rule, Rule]:
    less = draw(rules())
    more = less.model_copy(
        update={
            "off": draw(st.sampled_from([False, False, False, True])),
            "keep_for": less.keep_for + draw(DAYS),
            "keep_newest": (less.keep_newest or 0) + draw(st.integers(0, 3)),
            "keep_under": less.keep_under and draw(
                st.one_of(st.just(0), st.integers(less.keep_under, 5000))
            ),
            "keep_under_percent": less.keep_under_percent and draw(
                st.sampled_from([0, 90, less.keep_under_percent])
            ),
            "pressure": less.pressure if draw(st.booleans()) else (),
        }
    )  # fmt: skip
    return less, more


@given(a_rule_and_one_that_keeps_more(), ITEMS, st.floats(0, 100))
def test_what_stays_under_a_rule_stays_under_every_rule_that_keeps_more(
    both: tuple[Rule, Rule], items: list, free: float
) -> None:
    less, more = (verdicts(rule, items, free) for rule in both)
    for reason_less, reason_more in zip(less, more, strict=True):
        assert reason_less is None or reason_more is not None


@given(rules(), ITEMS, st.floats(0, 100), st.floats(0, 100))
def test_pressure_only_shortens(rule: Rule, items: list, one: float, other: float) -> None:
    fuller, emptier = sorted((one, other))
    for tight, loose in zip(
        verdicts(rule, items, fuller), verdicts(rule, items, emptier), strict=True
    ):
        assert tight is not None or loose is None or loose is Reason.TOO_YOUNG
        assert loose is not None or tight is None


@given(rules(), st.integers(0, 900), st.booleans())
def test_nothing_protected_ever_goes(rule: Rule, days: int, in_use: bool) -> None:
    judge = Judge(in_force([DEFAULT, (Scope.SHOP, rule)]), Caution.SAFE, NOW, free_percent=0.0)
    reason = judge.why_stays(age(days=days), size=10**9, in_use=in_use, protected=True)
    assert reason is Reason.PROTECTED


def test_only_what_stood_in_the_way_makes_a_cleaning_partial() -> None:
    stuck = {reason for reason in Reason if reason.should_have_gone}
    assert stuck == {
        Reason.IN_USE, Reason.PROGRAM_OPEN, Reason.CHANGED, Reason.NO_RIGHT, Reason.FAILED,
        Reason.NO_ROOM, Reason.TAKEN, Reason.AWAY, Reason.READ_ONLY, Reason.FORBIDDEN,
            Reason.CLOCK,
    }  # fmt: skip


# --- what is refused -------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("said", "complaint"),
    [
        ({"keep_for": "-P1D"}, "allowed are 0 days to 3,650 days"),
        ({"keep_for": "P3651D"}, "allowed are 0 days to 3,650 days"),
        ({"hold_for": "P91D"}, "allowed are 0 days to 90 days"),
        ({"keep_newest": -1}, "greater than or equal to 0"),
        ({"keep_under_percent": 91}, "less than or equal to 90"),
        ({"keep_for": "P7D", "pressure": [{"below_percent": 15, "keep_for": "P8D"}]},
         "pressure may only shorten: 8 days below 15 % free must lie between 0 days and 7 days"),
        ({"pressure": [{"below_percent": 5, "keep_for": "P2D"},
                       {"below_percent": 15, "keep_for": "P1D"}]},
         "from more to less free space"),
        ({"folders": ["C:\\"]}, "not a whole volume"),
        ({"folders": ["Scans"]}, "whole path"),
        ({"folders": ["/srv/../etc"]}, "without '..'"),
        ({"keep": 3}, "Extra inputs"),
    ],
)  # fmt: skip
def test_a_rule_that_cannot_be_meant_is_refused(said: dict, complaint: str) -> None:
    with pytest.raises(ValidationError, match=complaint):
        Rule.model_validate(said)


def refusal(key: str, rule: Rule) -> tuple[str, str] | None:
    kind = category(key)
    merged: RuleInForce = in_force([(Scope.CATALOGUE, kind.rule), (Scope.SHOP, rule)])
    return why_refused(kind, rule, merged)


@pytest.mark.parametrize(
    ("key", "said", "field", "complaint"),
    [
        ("large-and-idle", {"keep_newest": 3}, "keep_newest", "only ever listed"),
        ("programs", {"pressure": []}, "pressure", "only ever listed"),
        ("trash", {"folders": ["/srv/x"]}, "folders", "only own-folders take folders"),
        ("restore-points", {"hold_for": "P3D"}, "hold_for", "no plain files"),
        ("restore-points", {"keep_newest": 0}, "keep_newest", "at least 1 of each group"),
        ("own-folders", {"hold_for": "P0D"}, "hold_for", "at least 1 day first"),
        ("trash", {"pressure": [{"below_percent": 9, "keep_for": "P31D"}]}, "pressure",
         "longer than the 30 days in force"),
    ],
)  # fmt: skip
def test_a_dangerous_or_contradictory_rule_is_refused_with_its_reason(
    key: str, said: dict, field: str, complaint: str
) -> None:
    refused = refusal(key, Rule.model_validate(said))
    assert refused is not None and refused[0] == field
    assert complaint in refused[1]


@pytest.mark.parametrize("key", list(catalogue()))
def test_every_default_rule_is_one_that_a_scope_may_set(key: str) -> None:
    kind = category(key)
    rule = kind.rule
    if kind.caution is Caution.REPORT:
        rule = Rule(keep_for=rule.keep_for, only_larger=rule.only_larger)
    assert refusal(key, rule) is None
