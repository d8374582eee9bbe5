"""What a survey adds up: sums, reasons, ages, the largest, a digest; and names however odd."""

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from helpers import make_file
from phylax.core.retention import (
    Caution,
    Judge,
    ProtectEntry,
    ProtectKind,
    Reason,
    Rule,
    Scope,
    in_force,
)
from phylax.core.survey import (
    Ageing,
    LineCount,
    PlaceTerms,
    Survey,
    SurveyedItem,
    SurveyKind,
    SurveyLine,
    as_item,
    ledger,
    spell,
    unspell,
)

NOW = datetime(2026, 3, 2, tzinfo=UTC)
NOW_S = int(NOW.timestamp())
RULE = in_force([(Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=1)))])


def found(path: str, size: int = 10, days: int = 0, reason: Reason | None = None) -> SurveyedItem:
    return SurveyedItem(
        path, size, NOW_S - days * 86400, 1, abs(hash(path)) % 2**40, size, 5, "", reason
    )


def line_of(*items: SurveyedItem) -> SurveyLine:
    count = LineCount(NOW_S)
    for item in items:
        count.add(item)
    return count.line("user-temp", "/", RULE, capacity=1000, free=100)


def test_sums_reasons_and_ages() -> None:
    line = line_of(
        found("a", 100, 40), found("b", 7, 0, Reason.TOO_YOUNG), found("c", 5, 5000, Reason.IN_USE)
    )
    assert (line.total.count, line.total.size) == (3, 112)
    assert (line.removable.count, line.removable.size) == (1, 100)
    assert {(s.reason, s.size) for s in line.kept} == {("too young", 7), ("in use", 5)}
    assert [(a.day, a.size) for a in line.ages] == [(0, 7), (40, 100), (800, 5)]


@given(st.lists(st.tuples(st.text(min_size=1), st.integers(0, 99)), unique_by=lambda t: t[0]))
def test_the_digest_is_that_of_the_items_whatever_their_order(items: list[tuple[str, int]]) -> None:
    forth = line_of(*(found(name, size) for name, size in items))
    back = line_of(*(found(name, size) for name, size in reversed(items)))
    assert forth.digest == back.digest
    if items:
        fewer = line_of(*(found(name, size) for name, size in items[1:]))
        assert fewer.digest != forth.digest


def test_the_digest_is_another_where_a_file_goes_by_another_name() -> None:
    item = found("a/report.odt")
    moved = item._replace(path="b/report.odt")
    assert line_of(item).digest != line_of(moved).digest
    apart = line_of(found("ab"), found("c")), line_of(found("a"), found("bc"))
    assert apart[0].digest != apart[1].digest


def test_the_twenty_largest_are_kept_largest_first() -> None:
    line = line_of(*(found(f"f{n}", n) for n in range(50)))
    assert [item.size for item in line.largest] == list(range(49, 29, -1))


def test_a_folder_at_once_counts_as_its_files_one_by_one(tmp_path: Path) -> None:
    now = datetime.now(UTC)
    for number in range(40):
        make_file(tmp_path / f"f{number}", 300 * (number * 7 % 40), days_old=number / 8)
    os.link(tmp_path / "f9", tmp_path / "same-as-f9")
    rule = RULE.model_copy(update={"only_larger": 4096, "keep_for": timedelta(days=3)})
    newest_from = int(now.timestamp() - 1.2 * 86400)
    judge = Judge(rule, Caution.SAFE, now, newest_from={"": newest_from})
    entry = ProtectEntry(kind=ProtectKind.PATTERN, pattern="f[23][09]")
    keeps = {"f20": entry, "f39": entry}.get
    files = [(p.name, p.lstat()) for p in sorted(tmp_path.iterdir())]
    in_use = {(of.st_dev, of.st_ino) for name, of in files if name in ("f2", "f31", "f37")}
    at_once, single = (LineCount(int(now.timestamp()), 4096) for _ in range(2))
    terms = PlaceTerms(judge, Ageing(in_blocks=True), in_use, {number for _, number in in_use})
    size = at_once.add_folder("", files, terms, keeps=keeps)
    seen = set()
    for name, of in files:
        if of.st_ino in seen:
            continue
        seen.add(of.st_ino)
        is_open, size_of = (of.st_dev, of.st_ino) in in_use, of.st_blocks * 512
        reason = judge.why_stays(
            int(of.st_mtime), size=size_of, in_use=is_open, protected=keeps(name) is not None
        )
        single.add(
            SurveyedItem(name, size_of, int(of.st_mtime), of.st_dev, of.st_ino, of.st_size,
                  of.st_mtime_ns, "", reason, kept_by=keeps(name)),
            blocked=is_open or keeps(name) is not None,
        )  # fmt: skip
    mine, theirs = (c.line("user-temp", "/", rule, capacity=10, free=1) for c in (at_once, single))
    assert {stay.reason for stay in mine.kept} == {
        "too young", "in use", "protected", "not large enough", "among the newest",
    }  # fmt: skip
    assert size == mine.total.size
    assert mine.total.count == 40
    for field in ("total", "removable", "ages"):
        assert getattr(mine, field) == getattr(theirs, field), field
    assert set(mine.kept) == set(theirs.kept)
    assert {i.path for i in mine.largest} == {i.path for i in theirs.largest}


@given(st.binary(min_size=1, max_size=40).filter(lambda b: b"\0" not in b))
def test_any_name_travels_and_comes_back_byte_for_byte(name: bytes) -> None:
    path = os.fsdecode(name)
    item = as_item(found(path), "/home/anna/Downloads")
    assert os.fsencode(unspell(item)) == name
    assert item.path.isprintable()
    item.model_dump_json()


def test_a_name_with_a_line_break_cannot_forge_a_second_line() -> None:
    assert spell("a\nb")[0] == "a\\nb"


def test_the_ledger_keeps_what_needs_a_yes_apart() -> None:
    lines = tuple(
        line_of(found("x", size)).model_copy(update={"category": key, "mount": mount})
        for key, mount, size in [
            ("downloads", "/", 70), ("user-temp", "/", 30), ("user-temp", "/data", 5),
        ]
    )  # fmt: skip
    survey = Survey(
        id=1,
        machine_id=1,
        run_id=1,
        kind=SurveyKind.FIRST,
        started_at=NOW,
        ended_at=NOW,
        lines=lines,
    )
    sheet = ledger(survey)
    assert [line.category for line in sheet.lines] == ["user-temp", "downloads"]
    assert (sheet.removable.size, sheet.needs_approval.size) == (35, 70)
    assert {(v.mount, v.removable, v.needs_approval) for v in sheet.volumes} == {
        ("/", 30, 70),
        ("/data", 5, 0),
    }
