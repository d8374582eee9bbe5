"""Recurrence rules (RFC 5545) in a time zone: from a rule to its occurrences.

Expanded period by period, from the one in which the answer begins: asking for next week costs the
same however long ago a rule began, and a rule that never comes true ends the search. Local times
become UTC as RFC 5545 section 3.3.5 demands: a time that a clock change skips is read with the
offset before the change, one that it repeats is the first of the two.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from itertools import islice
from typing import Annotated
from zoneinfo import ZoneInfo

from pydantic import AfterValidator, Field

from phylax.core.scheduling.plain_words import from_words
from phylax.core.scheduling.recurrence_words import DAYS, in_words, ordinal

_PARTS = frozenset(
    {"FREQ", "INTERVAL", "COUNT", "UNTIL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYSETPOS", "WKST"}
)
_RANGES = {
    "INTERVAL": (1, 1000), "COUNT": (1, 10_000), "BYMONTHDAY": (1, 31), "BYMONTH": (1, 12),
    "BYSETPOS": (1, 366),
}  # fmt: skip
_FROM_THE_END = frozenset({"BYMONTHDAY", "BYSETPOS"})
_FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")
_WEEKDAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_BYDAY = re.compile(r"([+-]?\d{1,2})?(MO|TU|WE|TH|FR|SA|SU)")
_UNTIL = re.compile(r"\d{8}(T\d{6}Z?)?")
_LONGEST_SEARCH = 100
"""Years without an occurrence after which a rule counts as one that never comes true."""
_DAY = timedelta(days=1)


def parts(rule: str) -> dict[str, str]:
    """The parts of a RECUR value by name, upper case. ValueError says which part is not taken."""
    parts_of: dict[str, str] = {}
    for part in rule.strip().upper().removeprefix("RRULE:").rstrip(";").split(";"):
        name, equals, value = part.partition("=")
        if not equals or name not in _PARTS:
            raise ValueError(
                f"{part!r} is not a part of a recurrence rule that is taken here; "
                f"allowed are {', '.join(sorted(_PARTS))}, as in 'FREQ=WEEKLY;BYDAY=TU'"
            )
        if name in parts_of:
            raise ValueError(f"{name} stands twice in the recurrence rule")
        parts_of[name] = value
    _check(parts_of)
    return parts_of


def _check(rule_parts: dict[str, str]) -> None:
    frequency = rule_parts.get("FREQ")
    if frequency not in _FREQUENCIES:
        raise ValueError(f"FREQ must be one of {', '.join(_FREQUENCIES)}")
    for name, (lowest, highest) in _RANGES.items():
        for number in rule_parts.get(name, "").split(",") if name in rule_parts else ():
            # from the end only where a part counts days or places
            size = number.removeprefix("-") if name in _FROM_THE_END else number
            if not size.isdecimal() or not lowest <= int(size) <= highest:
                raise ValueError(f"{name} in the recurrence rule must be {lowest} to {highest}")
    for day in rule_parts["BYDAY"].split(",") if "BYDAY" in rule_parts else ():
        match = _BYDAY.fullmatch(day)
        if match is None or (match[1] and not 1 <= abs(int(match[1])) <= 53):
            raise ValueError(
                f"BYDAY in the recurrence rule takes MO to SU, as in TU or 1FR, not {day!r}"
            )
        if match[1] and frequency not in ("MONTHLY", "YEARLY"):
            raise ValueError(f"{day} counts days in a month or year; it needs FREQ=MONTHLY")
    if rule_parts.get("WKST", "MO") not in _WEEKDAYS:
        raise ValueError(f"WKST must be one of {', '.join(_WEEKDAYS)}")
    if frequency == "WEEKLY" and "BYMONTHDAY" in rule_parts:
        raise ValueError("BYMONTHDAY does not go with FREQ=WEEKLY; take FREQ=MONTHLY")
    if "COUNT" in rule_parts and "UNTIL" in rule_parts:
        raise ValueError("a recurrence rule ends by COUNT or by UNTIL, not by both")
    if "BYSETPOS" in rule_parts and not {"BYDAY", "BYMONTHDAY", "BYMONTH"} & rule_parts.keys():
        raise ValueError("BYSETPOS chooses among the days of another part, such as BYDAY")
    if "UNTIL" in rule_parts:
        _until(rule_parts["UNTIL"])


def _until(text: str) -> datetime:
    if not _UNTIL.fullmatch(text):
        raise ValueError(f"UNTIL is written as 20270630 or 20270630T170000Z, not {text!r}")
    try:
        if len(text) == 8:
            return datetime.combine(_day(text), time(23, 59, 59))
        at = datetime.combine(_day(text), time.fromisoformat(text[9:15]))
    except ValueError as error:
        raise ValueError(f"UNTIL={text} is no day of the calendar: {error}") from error
    return at.replace(tzinfo=UTC) if text.endswith("Z") else at


def _day(text: str) -> date:
    return date(int(text[:4]), int(text[4:6]), int(text[6:8]))


def checked_rule(rule: str) -> str:
    """The rule in its plain form, from a rule or plain words; ValueError where it is neither."""
    rule_parts = parts(rule if "=" in rule else from_words(rule))
    return ";".join(f"{name}={value}" for name, value in rule_parts.items())


RecurrenceRule = Annotated[
    str,
    AfterValidator(checked_rule),
    Field(
        description="RFC 5545 RECUR value; plain words such as 'every Tuesday' are read as one",
        examples=["FREQ=WEEKLY;BYDAY=TU"],
    ),
]


@dataclass(frozen=True)
class _Rule:
    """A rule, read."""

    frequency: str
    interval: int
    count: int | None
    until: datetime | None
    """Aware where the rule gives it in UTC, else local."""
    weekdays: tuple[tuple[int, int], ...]
    """(which one, weekday); 0 for every one."""
    month_days: tuple[int, ...]
    months: tuple[int, ...]
    positions: tuple[int, ...]
    week_starts: int


@lru_cache(maxsize=1024)
def _read(rule: str) -> _Rule:
    rule_parts = parts(rule)
    numbers = {
        name: tuple(int(n) for n in rule_parts[name].split(","))
        for name in ("BYMONTHDAY", "BYMONTH", "BYSETPOS")
        if name in rule_parts
    }
    days = (
        [_BYDAY.fullmatch(day) for day in rule_parts["BYDAY"].split(",")]
        if "BYDAY" in rule_parts
        else []
    )
    return _Rule(
        frequency=rule_parts["FREQ"],
        interval=int(rule_parts.get("INTERVAL", "1")),
        count=int(rule_parts["COUNT"]) if "COUNT" in rule_parts else None,
        until=_until(rule_parts["UNTIL"]) if "UNTIL" in rule_parts else None,
        weekdays=tuple((int(day[1] or 0), _WEEKDAYS.index(day[2])) for day in days if day),
        month_days=numbers.get("BYMONTHDAY", ()),
        months=numbers.get("BYMONTH", ()),
        positions=numbers.get("BYSETPOS", ()),
        week_starts=_WEEKDAYS.index(rule_parts.get("WKST", "MO")),
    )


def _expanded(rule: _Rule, starts_on: date, begin: date) -> Iterator[date]:
    """The rule's days, not before `starts_on`, from the period that `begin` lies in."""
    last_found = begin
    for period in _periods(rule, starts_on, begin):
        days = sorted(set(_of_period(rule, starts_on, period)))
        if rule.positions:
            chosen = (n - 1 if n > 0 else len(days) + n for n in rule.positions)
            days = sorted({days[n] for n in chosen if 0 <= n < len(days)})
        for day in days:
            if day >= starts_on:
                last_found = day
                yield day
        if period.year - last_found.year > _LONGEST_SEARCH:
            return


def _periods(rule: _Rule, starts_on: date, begin: date) -> Iterator[date]:
    """The first day of each period that counts; up to the end of the calendar."""
    every = rule.interval
    try:
        match rule.frequency:
            case "DAILY" | "WEEKLY":
                first, step = starts_on, every * _DAY
                if rule.frequency == "WEEKLY":
                    first -= (starts_on.weekday() - rule.week_starts) % 7 * _DAY
                    step *= 7
                first += max(0, (begin - first) // step) * step
                while True:
                    yield first
                    first += step
            case "MONTHLY":
                origin = starts_on.year * 12 + starts_on.month - 1
                month = begin.year * 12 + begin.month - 1
                month = origin + max(0, (month - origin) // every) * every
                while True:
                    yield date(month // 12, month % 12 + 1, 1)
                    month += every
        year = starts_on.year + max(0, (begin.year - starts_on.year) // every) * every
        while True:
            yield date(year, 1, 1)
            year += every
    except (OverflowError, ValueError):
        return


def _of_period(rule: _Rule, starts_on: date, first: date) -> Iterable[date]:
    """The days of one period, in no order (RFC 5545, the table of section 3.3.10)."""
    match rule.frequency:
        case "DAILY":
            return [first] if _is_in(rule, first) else []
        case "WEEKLY":
            weekdays = {day for _, day in rule.weekdays} or {starts_on.weekday()}
            week = (first + n * _DAY for n in range(7) if first <= date.max - n * _DAY)
            return [
                day
                for day in week
                if day.weekday() in weekdays and (not rule.months or day.month in rule.months)
            ]
        case "MONTHLY":
            if rule.months and first.month not in rule.months:
                return []
            return _of_month(rule, starts_on, first)
    return _of_year(rule, starts_on, first)


def _is_in(rule: _Rule, day: date) -> bool:
    length = calendar.monthrange(day.year, day.month)[1]
    return (
        (not rule.months or day.month in rule.months)
        and (not rule.weekdays or any(day.weekday() == weekday for _, weekday in rule.weekdays))
        and (not rule.month_days or not {day.day, day.day - length - 1}.isdisjoint(rule.month_days))
    )


def _of_month(rule: _Rule, starts_on: date, first: date) -> Iterable[date]:
    days = _stretch(first, calendar.monthrange(first.year, first.month)[1])
    month_days: set[date] | None = None
    if rule.month_days:
        month_days = {day for day in days if not {day.day, day.day - len(days) - 1}.isdisjoint(
            rule.month_days)}  # fmt: skip
    if rule.weekdays:
        named = _weekdays_of(rule, days)
        month_days = named if month_days is None else month_days & named
    if month_days is None:
        month_days = {day for day in days if day.day == starts_on.day}
    return month_days


def _of_year(rule: _Rule, starts_on: date, first: date) -> Iterable[date]:
    months = rule.months or range(1, 13)
    firsts = [date(first.year, month, 1) for month in months]
    if rule.months or rule.month_days:
        days = set[date]()
        for first_day in firsts:
            days.update(_of_month(rule, starts_on, first_day))
        if rule.weekdays and not rule.months:
            # with dates but no months, "the 20th Monday" counts from the year's first day
            days = {d for first_day in firsts for d in _dates_of(rule, first_day)} & _of_days(
                rule, first
            )
        return days
    if rule.weekdays:
        return _of_days(rule, first)
    length = calendar.monthrange(first.year, starts_on.month)[1]
    if starts_on.day > length:
        return []
    return [date(first.year, starts_on.month, starts_on.day)]


def _dates_of(rule: _Rule, first: date) -> set[date]:
    days = _stretch(first, calendar.monthrange(first.year, first.month)[1])
    return {
        day for day in days if not {day.day, day.day - len(days) - 1}.isdisjoint(rule.month_days)
    }


def _of_days(rule: _Rule, first: date) -> set[date]:
    return _weekdays_of(rule, _stretch(first, 366 if calendar.isleap(first.year) else 365))


def _stretch(first: date, days: int) -> list[date]:
    return [first + n * _DAY for n in range(days)]


def _weekdays_of(rule: _Rule, days: list[date]) -> set[date]:
    """The days that BYDAY names, counted in this month or year."""
    dates = set[date]()
    for which, weekday in rule.weekdays:
        named = [day for day in days if day.weekday() == weekday]
        if which == 0:
            dates.update(named)
        elif abs(which) <= len(named):
            dates.add(named[which - 1 if which > 0 else which])
    return dates


def to_utc(local: datetime, zone: ZoneInfo) -> datetime:
    """A local time as UTC; skipped and repeated times by RFC 5545 section 3.3.5."""
    return local.replace(tzinfo=zone, fold=0).astimezone(UTC)


def occurrences(
    rule: str, starts_on: date, at: time, zone: ZoneInfo, *, after: datetime
) -> Iterator[datetime]:
    """The rule's occurrences after a moment, as UTC times, in order; endless unless the rule ends.

    `starts_on` is the first day that counts (DTSTART's date), `at` the local time of day.
    """
    read = _read(rule)
    # A clock change can move a local time by its offset; begin a day early and compare in UTC.
    # What is counted is counted from the first.
    begin = starts_on if read.count else max(starts_on, after.astimezone(zone).date() - _DAY)
    for number, day in enumerate(_expanded(read, starts_on, begin), 1):
        if read.count is not None and number > read.count:
            return
        local = datetime.combine(day, at)
        due = to_utc(local, zone)
        if read.until is not None and (due if read.until.tzinfo else local) > read.until:
            return
        if due > after:
            yield due


def next_dates(
    rule: str, starts_on: date, at: time, zone: ZoneInfo, *, after: datetime, most: int = 5
) -> list[datetime]:
    """At most the next `most` occurrences."""
    return list(islice(occurrences(rule, starts_on, at, zone, after=after), most))


def left_out(rule: str, starts_on: date) -> str:
    """Which months or years a rule passes by, as a sentence; empty where it comes in all."""
    read = _read(rule)
    if read.frequency == "YEARLY" and read.months == (2,) and read.month_days == (29,):
        return "Only leap years have a 29 February; the others are left out."
    if read.frequency == "DAILY" or read.frequency == "WEEKLY":
        return ""
    dates = read.month_days
    if read.frequency == "MONTHLY" and not (dates or read.weekdays):
        dates = (starts_on.day,)
    late = [day for day in dates if day > 28]
    if late and not (read.months or read.weekdays):
        return (
            f"Months without a {ordinal(max(late))} are left out; 'the last day of every month' "
            "comes in each."
        )
    fifths = [DAYS[_WEEKDAYS[day]] for place, day in read.weekdays if abs(place) == 5]
    if fifths and read.frequency == "MONTHLY":
        return f"Months without a fifth {fifths[0]} are left out."
    return ""


def how_often(rule: str, at: time | None = None) -> str:
    """The rule as people say it: ``every Tuesday at 18:30``. Unusual rules are given as written."""
    words = in_words(parts(rule), at)
    if words is None:
        return rule if at is None else f"{rule} at {at:%H:%M}"
    return words
