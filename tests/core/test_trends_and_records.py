"""Condensed lines keep their extremes; the chain of records shows every tampering."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.records import FIRST, Entry, Record, RecordKind, digest, verify
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


def chain(*texts: str) -> list[Record]:
    records, previous = [], FIRST
    for number, text in enumerate(texts, 1):
        entry = Entry(machine_id=1, at=NOW, who="Wren", kind=RecordKind.NOTE, text=text)
        said = digest(entry, previous)
        records.append(
            Record(
                **dict(entry),
                id=number,
                machine_tag="m",
                client_name="c",
                previous=previous,
                digest=said,
            )
        )
        previous = said
    return records


def test_an_untouched_chain_is_intact() -> None:
    assert verify(chain("a", "b", "c")).intact


@pytest.mark.parametrize(
    ("tamper", "broken_at"),
    [
        (lambda c: [c[0], c[1].model_copy(update={"text": "B"}), c[2]], 2),
        (lambda c: [c[0], c[1].model_copy(update={"who": "Ines"}), c[2]], 2),
        (lambda c: [c[0], c[2]], 3),
        (lambda c: [c[1], c[2]], 2),
        (lambda c: [c[0], c[2], c[1]], 3),
    ],
)
def test_what_was_altered_taken_out_or_moved_is_found(tamper, broken_at: int) -> None:
    check = verify(tamper(chain("a", "b", "c")))
    assert (check.intact, check.broken_at) == (False, broken_at)
