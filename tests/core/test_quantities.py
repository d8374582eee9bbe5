"""What people type is read, what people read is shown."""

import re
from collections.abc import Callable
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.ground.quantities import (
    count,
    parse_size,
    parse_span,
    show_share,
    show_size,
    show_span,
    spoken,
)


@pytest.mark.parametrize(
    ("size", "shown"),
    [
        (0, "0 B"),
        (1023, "1023 B"),
        (1024, "1.0 KiB"),
        (295_000 * 1024, "288.1 MiB"),
        (1024**3 - 1, "1.0 GiB"),
        (-(1024**2), "-1.0 MiB"),
    ],
)
def test_sizes_are_shown_in_binary_units_with_one_decimal(size: int, shown: str) -> None:
    assert show_size(size) == shown


@given(st.integers(0, 2**60))
def test_a_shown_size_reads_back_within_its_rounding(size: int) -> None:
    assert abs(parse_size(show_size(size)) - size) <= max(1, size * 0.05)


@pytest.mark.parametrize(("text", "size"), [("500 MiB", 500 * 2**20), ("1,5GB", 1_500_000_000)])
def test_sizes_mean_what_their_unit_says(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize(
    ("text", "span"),
    [
        ("30 days", timedelta(days=30)),
        ("1 week", timedelta(days=7)),
        ("P30D", timedelta(days=30)),
        ("PT12H", timedelta(hours=12)),
        ("P1DT6H", timedelta(hours=30)),
    ],
)
def test_spans_are_read_in_plain_words_and_iso_8601(text: str, span: timedelta) -> None:
    assert parse_span(text) == span


@pytest.mark.parametrize(
    ("text", "parse", "says"),
    [
        ("1,000 GB", parse_size, "write 1000 GB without the ',', or 1,0 GB"),
        ("10.000", parse_size, "write 10000 without"),
        ("1.500 MiB", parse_size, "or 1.5 MiB for a part"),
        ("1,500 days", parse_span, "1500 days, or 1 days and a part"),
        ("9999999999 TB", parse_size, "more than any volume"),
        ("99999999999999 weeks", parse_span, "a hundred years"),
    ],
)
def test_a_number_that_can_be_read_in_two_ways_is_refused_with_both(
    text: str, parse: Callable, says: str
) -> None:
    with pytest.raises(ValueError, match=re.escape(says)):
        parse(text)


@given(st.integers(0, 2**62))
def test_bytes_are_read_to_the_last(size: int) -> None:
    assert parse_size(f"{size} B") == size


@pytest.mark.parametrize("text", ["", "soon", "1.5 days", "days 3", "P", "-3 days", "3 fortnights"])
def test_what_is_no_span_is_refused_with_an_example(text: str) -> None:
    with pytest.raises(ValueError, match="30 days"):
        parse_span(text)


@given(st.integers(1, 3650))
def test_a_shown_span_reads_back(days: int) -> None:
    assert parse_span(show_span(timedelta(days=days))) == timedelta(days=days)


def test_shares_and_counts_do_not_round_to_what_is_not_so() -> None:
    assert show_share(999, 1000) == "99 %"
    assert (count(1, "entry"), count(2, "entry"), count(1200, "day")) == (
        "1 entry",
        "2 entries",
        "1,200 days",
    )
    assert (spoken(3, "machine"), spoken(14, "machine")) == ("three machines", "14 machines")
