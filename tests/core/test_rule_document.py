"""The shop's rules as one file: nothing is lost on the way out and in, and mistakes are named."""

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.catalogue import catalogue
from phylax.core.catalogue.rule_document import Document, differences, read, write
from phylax.core.retention import ProtectEntry, ProtectKind, Rule, Scope
from phylax.core.retention.rules import PressureStep

SUBJECTS = st.one_of(
    st.just((Scope.SHOP, "")),
    st.tuples(st.just(Scope.CLIENT), st.text(min_size=1, max_size=20)),
    st.tuples(st.just(Scope.MACHINE), st.from_regex(r"[a-z0-9][a-z0-9-]{0,9}", fullmatch=True)),
)
SPANS = st.none() | st.integers(0, 3650 * 24 * 60).map(lambda m: timedelta(minutes=m))
SIZES = st.none() | st.integers(0, 2**50)
RULES = st.builds(
    Rule,
    off=st.none() | st.booleans(),
    keep_for=SPANS,
    keep_newest=st.none() | st.integers(0, 1000),
    keep_under=SIZES,
    keep_under_percent=st.none() | st.integers(0, 90),
    only_larger=SIZES,
    hold_for=st.none() | st.integers(0, 90).map(lambda d: timedelta(days=d)),
    folders=st.none() | st.just(("C:\\Scans", "/srv/scans")),
)
PROTECT = st.lists(
    st.tuples(
        SUBJECTS,
        st.sampled_from(
            [
                ProtectEntry(kind=ProtectKind.FOLDER, pattern="C:\\Archive"),
                ProtectEntry(kind=ProtectKind.PATTERN, pattern="*.d[ck]m"),
                ProtectEntry(kind=ProtectKind.SITE, pattern="tickets.example"),
            ]
        ),
        st.text(max_size=12),
    ),
    max_size=4,
)


@given(
    st.dictionaries(st.tuples(SUBJECTS, st.sampled_from(list(catalogue()))), RULES, max_size=6),
    PROTECT,
)
def test_what_is_written_is_read_back_and_makes_no_difference(rules: dict, protect: list) -> None:
    document = Document(rules, protect)
    again = read(write(document))
    assert again.rules == rules
    assert again.protect == protect
    assert not list(differences(document, again))


def test_it_reads_as_people_write() -> None:
    steps = (PressureStep(below_percent=15, keep_for=timedelta(days=7)),)
    rule = Rule(keep_for=timedelta(days=30), keep_under=500 * 2**20, pressure=steps)
    text = write(Document({((Scope.CLIENT, "Kelpie Boatyard"), "journal"): rule}, []))
    assert '[client."Kelpie Boatyard".journal]' in text
    assert 'keep_for = "30 days"' in text
    assert 'keep_under = "500 MiB"' in text
    assert '{ below_percent = 15, keep_for = "7 days" }' in text


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("[shop", "this is no TOML"),
        ("[town.trash]\noff = true", "[town] is not known; there are shop, client"),
        ("[shop.tea-leaves]\noff = true", "no category 'tea-leaves'; there are user-temp"),
        ('[shop.trash]\nkeep_for = "soon"', "[shop.trash]: 'soon' is not a span of time"),
        ('[shop.trash]\nkeep_under = "much"', "[shop.trash]: 'much' is not a size"),
        ("[shop.trash]\nkeep = 3", "[shop.trash]: keep: Extra inputs"),
        ('[shop.trash]\nkeep_for = "-3 days"', "is not a span of time"),
        ("[shop]\ntrash = 3", "[shop.trash] must be a table"),
        ('[machine.x.trash]\npressure = [{below_percent = 0, keep_for = "1 day"}]',
         "[machine.x.trash]: pressure.0.below_percent"),
        ('[[protect]]\nfolder = "here"', "[protect, entry 1]: rule: 'here' is not a whole path"),
        ('[[protect]]\ncolour = "red"', "say one of folder, pattern or site"),
        ('[[protect]]\nclient = "a"\nmachine = "b"\nsite = "c.example"', "not both"),
    ],
)  # fmt: skip
def test_a_mistake_is_named_with_its_table_and_what_is_allowed(text: str, complaint: str) -> None:
    with pytest.raises(ValueError) as caught:
        read(text)
    assert complaint in str(caught.value)


def test_differences_name_what_comes_goes_and_changes() -> None:
    shop, yard = (Scope.SHOP, ""), (Scope.MACHINE, "yard")
    entry = ProtectEntry(kind=ProtectKind.SITE, pattern="a.example")
    now = Document(
        {(shop, "trash"): Rule(off=True), (yard, "trash"): Rule(keep_newest=1)},
        [(yard, entry, "")],
    )
    then = Document(
        {(shop, "trash"): Rule(off=False), (shop, "journal"): Rule(keep_newest=2)},
        [(shop, entry, "")],
    )
    found = {(d.what, d.subject, d.category, d.before, d.after) for d in differences(now, then)}
    assert found == {
        ("changed rule", "", "trash", "off yes", "off no"),
        ("removed rule", "yard", "trash", "keep newest 1", ""),
        ("new rule", "", "journal", "", "keep newest 2"),
        ("new protection", "", "", "", "site a.example"),
    }, "and a protection left out stays"
