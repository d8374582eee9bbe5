"""Condensed lines keep their extremes; the chain of records shows every tampering."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.ground.chain import FIRST, Part, digest_of
from phylax.core.record.records import (
    PERSONAL,
    Entry,
    KeptEntry,
    Record,
    RecordKind,
    digest,
    text_to_hash,
    verify,
)
from phylax.core.trends import Reading, condense

NOW = datetime(2026, 3, 2, tzinfo=UTC)


@given(st.lists(st.integers(0, 10**12), max_size=300), st.integers(3, 60))
def test_condensing_keeps_ends_order_and_extremes(frees: list[int], most: int) -> None:
    readings = [Reading(1000 + 60 * n, 10**12, f, f, f) for n, f in enumerate(frees)]
    short = condense(readings, most)
    assert len(short) <= max(most, 3)
    assert [r.at for r in short] == sorted(r.at for r in short)
    if readings:
        assert (short[0].at, short[-1].free) == (readings[0].at, readings[-1].free)
        assert min(r.low for r in short) == min(frees)
        assert max(r.high for r in short) == max(frees)


def chain(*texts: str, older: int = 0) -> list[KeptEntry]:
    """Entries of which some are of the first form."""
    entries, previous = [], FIRST
    for number, text in enumerate(texts, 1):
        entry = Entry(machine_id=1, at=NOW, who="Wren", kind=RecordKind.NOTE, text=text)
        parts = {name: Part.of(getattr(entry, name)) for name in PERSONAL}
        hashed = text_to_hash(entry, parts, previous)
        said = digest(entry, previous) if number <= older else digest_of(hashed)
        record = Record(
            **dict(entry),
            id=number,
            machine_tag="m",
            client_name="c",
            previous=previous,
            digest=said,
        )
        is_older = number <= older
        entries.append(KeptEntry(record, None if is_older else hashed, {} if is_older else parts))
        previous = said
    return entries


def altered(kept: KeptEntry, **change: object) -> KeptEntry:
    """What is shown and what lies beside are altered, as far as they are the same."""
    parts = {
        name: part and part._replace(text=str(change.get(name, part.text)))
        for name, part in kept.parts.items()
    }
    return KeptEntry(kept.record.model_copy(update=change), kept.hashed, parts)


def without(kept: KeptEntry, part: str) -> KeptEntry:
    return kept._replace(parts={**kept.parts, part: None})


@pytest.mark.parametrize("older", [0, 1, 3])
def test_an_untouched_chain_is_intact(older: int) -> None:
    assert verify(chain("a", "b", "c", older=older)).intact


@pytest.mark.parametrize(
    ("tamper", "broken_at"),
    [
        (lambda c: [c[0], altered(c[1], text="B"), c[2]], 2),
        (lambda c: [c[0], altered(c[1], who="Ines"), c[2]], 2),
        (lambda c: [c[0], altered(c[1], freed=5), c[2]], 2),
        (lambda c: [c[0], altered(c[1], machine_id=2), c[2]], 2),
        (lambda c: [c[0], c[2]], 3),
        (lambda c: [c[1], c[2]], 2),
        (lambda c: [c[0], c[2], c[1]], 3),
    ],
)
@pytest.mark.parametrize("older", [0, 3])
def test_what_was_altered_taken_out_or_moved_is_found(tamper, broken_at: int, older: int) -> None:
    check = verify(tamper(chain("a", "b", "c", older=older)))
    assert (check.intact, check.broken_at) == (False, broken_at)


@pytest.mark.parametrize(
    ("tamper", "why"),
    [
        (lambda c: [*c[:2], without(c[2], "text")], "its text is gone"),
        (lambda c: [*c[:2], without(c[2], "who")], "its who is gone"),
        (lambda c: [*c[:2], c[2]._replace(hashed=c[2].hashed.replace("note", "run"))], "altered"),
        (lambda c: [*c[:2], c[2]._replace(hashed="[" * 100_000)], "altered"),
        (lambda c: [*c[:2], c[2]._replace(hashed=None, parts={})], "not written any more"),
    ],
)
def test_parts_and_the_text_as_it_was_hashed_are_looked_at(tamper, why: str) -> None:
    check = verify(tamper(chain("a", "b", "c", older=1)))
    assert check.broken_at == 3 and why in check.why


def test_nobody_learns_words_from_a_digest_without_its_salt() -> None:
    (first,) = chain("Anna Kelp is ill.")
    (second,) = chain("Anna Kelp is ill.")
    assert first.hashed is not None and "Kelp" not in first.hashed and "Wren" not in first.hashed
    assert first.record.digest != second.record.digest, "the same words, another salt"
