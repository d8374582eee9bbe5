"""Sizes, shares, spans of time and dates: read what people type, show what people read."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import date, datetime, timedelta

_UNITS = ("B", "KiB", "MiB", "GiB", "TiB", "PiB")
_SIZE = re.compile(r"\s*(\d+)(?:([.,])(\d+))?\s*([a-z]*)\s*", re.IGNORECASE)
_MOST_BYTES = 2**63 - 1
_FACTORS: dict[str, int] = {
    "": 1, "b": 1, "byte": 1, "bytes": 1,
    **{unit.lower(): int(1024**power) for power, unit in enumerate(_UNITS)},
    "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12, "pb": 10**15,
}  # fmt: skip
_SPAN_WORDS = {
    "second": timedelta(seconds=1),
    "minute": timedelta(minutes=1),
    "hour": timedelta(hours=1),
    "day": timedelta(days=1),
    "week": timedelta(weeks=1),
    "month": timedelta(days=30),
    "year": timedelta(days=365),
}
_SPAN = re.compile(r"(\d+)\s*([a-z]+?)s?", re.IGNORECASE)
_SIGN_IN_SPAN = re.compile(r"(\d+)([.,])(\d{3})\s*([a-z]+?)s?", re.IGNORECASE)
_MOST_DAYS = 36_500
_ISO_SPAN = re.compile(
    r"P(?:(?P<weeks>\d+)W)?(?:(?P<days>\d+)D)?(?:T(?:(?P<hours>\d+)H)?(?:(?P<minutes>\d+)M)?)?"
)


def show_size(size: int) -> str:
    """A number of bytes in binary units with one decimal: ``1.5 GiB``; whole below 1 KiB."""
    if size < 0:
        return f"-{show_size(-size)}"
    value = float(size)
    for unit in _UNITS:
        # 1023.95 would round to "1024.0", which belongs to the next unit
        if value < 1023.95 or unit == _UNITS[-1]:
            return f"{size} B" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1024
    raise AssertionError("unreachable")


def exact_size(size: int) -> str:
    """A number of bytes in the largest unit that loses nothing: ``500 MiB``, ``1234567 B``."""
    power = 0
    while size and size % 1024 == 0 and power < len(_UNITS) - 1:
        size //= 1024
        power += 1
    return f"{size} {_UNITS[power]}"


def parse_size(text: str) -> int:
    """The bytes in ``"500 MiB"``, ``"1.5GiB"`` or ``"100 MB"`` (decimal units as they say).

    A point or comma stands before parts of a unit. Followed by exactly three digits it may as well
    stand between thousands, and is refused. Raises ValueError naming the text and what is allowed.
    """
    match = _SIZE.fullmatch(text)
    factor = _FACTORS.get(match[4].lower()) if match else None
    if match is None or factor is None:
        raise ValueError(f"{text!r} is not a size; write a number and a unit, as in '500 MiB'")
    whole, sign, parts, unit = match.groups()
    if parts is not None:
        _refuse_two_readings(text, whole, sign, parts, unit)
    # in whole numbers: no float comes in between
    scale = 10 ** len(parts or "")
    size: int = (int(whole + (parts or "")) * factor * 2 + scale) // (2 * scale)
    if size > _MOST_BYTES:
        raise ValueError(f"{text!r} is more than any volume holds")
    return size


def _refuse_two_readings(text: str, whole: str, sign: str, parts: str, unit: str) -> None:
    if len(parts) == 3:
        unit = f" {unit}" if unit else ""
        raise ValueError(
            f"{text!r} can be read in two ways: write {whole}{parts}{unit} without the {sign!r}, "
            f"or {whole}{sign}{parts.rstrip('0') or '0'}{unit} for a part"
        )


def parse_span(text: str) -> timedelta:
    """The span in ``"30 days"``, ``"2 weeks"`` or an ISO 8601 duration such as ``"P30D"``.

    Raises ValueError naming the text and what is allowed. A month counts as 30 days.
    """
    two_ways = _SIGN_IN_SPAN.fullmatch(text.strip())
    if two_ways and two_ways[4].lower() in _SPAN_WORDS:
        whole, sign, parts, word = two_ways.groups()
        raise ValueError(
            f"{text!r} can be read in two ways: {whole}{parts} {word}s, or {whole} {word}s and a "
            f"part; write a whole number without the {sign!r}"
        )
    plain = _SPAN.fullmatch(text.strip())
    if plain and plain[2].lower() in _SPAN_WORDS:
        return _sensible(text, lambda: int(plain[1]) * _SPAN_WORDS[plain[2].lower()])
    iso = _ISO_SPAN.fullmatch(text.strip().upper())
    parts = {name: int(n) for name, n in iso.groupdict().items() if n} if iso else {}
    if not parts:
        raise ValueError(f"{text!r} is not a span of time; write '30 days', '12 hours' or 'P30D'")
    return _sensible(text, lambda: timedelta(**parts))


def _sensible(text: str, span: Callable[[], timedelta]) -> timedelta:
    try:
        length = span()
    except OverflowError:
        length = timedelta.max
    if length > timedelta(days=_MOST_DAYS):
        raise ValueError(f"{text!r} is longer than a hundred years")
    return length


def show_span(span: timedelta) -> str:
    """A span in plain words, in its largest whole unit: ``30 days``, ``12 hours``."""
    if not span:
        return "0 days"
    minutes = int(span.total_seconds() // 60)
    # days, not weeks: "30 days" and "14 days" are how rules are spoken of
    for word, size in (("day", 24 * 60), ("hour", 60), ("minute", 1)):
        if minutes and minutes % size == 0:
            return _plain_count(minutes // size, word)
    return _plain_count(int(span.total_seconds()), "second")


def _plain_count(number: int, word: str) -> str:
    """Without a sign between thousands, so that it can be read back."""
    return count(number, word).replace(",", "")


def show_seconds(seconds: int) -> str:
    """A stretch of time as people say it while they wait: '40 s', '12 min', '3 h 20 min'."""
    if seconds < 60:
        return f"{seconds} s"
    minutes = round(seconds / 60)
    if minutes < 60:
        return f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    return f"{hours} h {minutes} min" if minutes else f"{hours} h"


def show_age(then: datetime, now: datetime) -> str:
    """How long ago, in one rounded unit: ``3 days ago``, ``just now``."""
    seconds = int((now - then).total_seconds())
    for word, size in (("day", 86400), ("hour", 3600), ("minute", 60)):
        if seconds >= size:
            return f"{count(seconds // size, word)} ago"
    return "just now"


def show_share(part: int, whole: int) -> str:
    """A share in whole per cent, never rounded up to a full hundred."""
    if whole <= 0:
        return "0 %"
    percent = 100 * part / whole
    return f"{min(round(percent), 99) if part < whole else round(percent)} %"


_SPOKEN = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten",
           "eleven", "twelve")  # fmt: skip


def spoken(number: int, noun: str) -> str:
    """As `count`, with numbers up to twelve in words: ``three machines``, ``14 machines``."""
    if number >= len(_SPOKEN):
        return count(number, noun)
    return f"{_SPOKEN[number]} {count(number, noun).partition(' ')[2]}"


def count(number: int, noun: str) -> str:
    """A number with its noun in the right form: ``1 file``, ``12,400 files``."""
    plural = noun[:-1] + "ies" if noun.endswith("y") and noun[-2] not in "aeiou" else noun + "s"
    return f"{number:,} {noun if number == 1 else plural}"


_MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
_WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]


def show_day(day: date) -> str:
    """A day in a sentence: ``1 Dec``. In English whatever the system's language."""
    return f"{day.day} {_MONTHS[day.month - 1]}"


def show_moment(at: datetime) -> str:
    """A time in a sentence, in its own zone: ``Tue 1 Dec 18:30``."""
    return f"{_WEEKDAYS[at.weekday()]} {show_day(at)} {at:%H:%M}"


def headed(of: str) -> str:
    """What a sentence is about, with a colon after it; a drive's name has one already."""
    return of if of.endswith(":") or not of else f"{of}:"


def listed(words: Sequence[str]) -> str:
    """Words as people list them: ``C:, D: and E:``."""
    if len(words) < 2:
        return "".join(words)
    return ", ".join(words[:-1]) + " and " + words[-1]
