"""Recurrence rules (RFC 5545) in a time zone: from a rule to its occurrences.

Expansion of the rule in local time is dateutil's; this module says which rules are taken, speaks
them in words, and maps local times to UTC as RFC 5545 section 3.3.5 demands: a time that a clock
change skips is read with the offset before the change, one that it repeats is the first of the two.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, time
from itertools import islice
from typing import Annotated
from zoneinfo import ZoneInfo

from dateutil.rrule import rrule, rrulestr
from pydantic import AfterValidator, Field

from phylax.core.quantities import count

_PARTS = frozenset(
    {"FREQ", "INTERVAL", "COUNT", "UNTIL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYSETPOS", "WKST"}
)
_RANGES = {
    "INTERVAL": (1, 1000), "COUNT": (1, 10_000), "BYMONTHDAY": (1, 31), "BYMONTH": (1, 12),
    "BYSETPOS": (1, 366),
}  # fmt: skip
_FROM_THE_END = frozenset({"BYMONTHDAY", "BYSETPOS"})
_FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")
_DAYS = {
    "MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday",
    "FR": "Friday", "SA": "Saturday", "SU": "Sunday",
}  # fmt: skip
_NTH = {1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last"}


def parts(rule: str) -> dict[str, str]:
    """The parts of a RECUR value by name, upper case. ValueError says which part is not taken."""
    found: dict[str, str] = {}
    for part in rule.strip().upper().removeprefix("RRULE:").rstrip(";").split(";"):
        name, equals, value = part.partition("=")
        if not equals or name not in _PARTS:
            raise ValueError(
                f"{part!r} is not a part of a recurrence rule that is taken here; "
                f"allowed are {', '.join(sorted(_PARTS))}, as in 'FREQ=WEEKLY;BYDAY=TU'"
            )
        if name in found:
            raise ValueError(f"{name} stands twice in the recurrence rule")
        found[name] = value
    if found.get("FREQ") not in _FREQUENCIES:
        raise ValueError(f"FREQ must be one of {', '.join(_FREQUENCIES)}")
    for name, (lowest, highest) in _RANGES.items():
        for number in found.get(name, "").split(",") if name in found else ():
            # from the end only where a part counts days or places
            size = number.removeprefix("-") if name in _FROM_THE_END else number
            if not size.isdecimal() or not lowest <= int(size) <= highest:
                raise ValueError(f"{name} in the recurrence rule must be {lowest} to {highest}")
    return found


def checked_rule(rule: str) -> str:
    """The rule in its plain form, or ValueError."""
    found = parts(rule)
    plain = ";".join(f"{name}={value}" for name, value in found.items())
    _expansion(plain, datetime.combine(date(2000, 1, 1), time()), ZoneInfo("UTC"))
    return plain


RecurrenceRule = Annotated[
    str,
    AfterValidator(checked_rule),
    Field(description="RFC 5545 RECUR value", examples=["FREQ=WEEKLY;BYDAY=TU"]),
]


def _expansion(rule: str, start: datetime, zone: ZoneInfo) -> rrule:
    """dateutil's expansion in local time; `UNTIL` in UTC is brought into the zone first."""
    found = parts(rule)
    until = found.get("UNTIL", "")
    if until.endswith("Z"):
        aware = datetime.strptime(until, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
        found["UNTIL"] = aware.astimezone(zone).strftime("%Y%m%dT%H%M%S")
    elif len(until) == 8:
        found["UNTIL"] = until + "T235959"
    try:
        made = rrulestr(";".join(f"{n}={v}" for n, v in found.items()), dtstart=start)
    except (ValueError, TypeError, KeyError, AttributeError, IndexError) as error:
        raise ValueError(f"{rule!r} is not a recurrence rule: {error}") from error
    assert isinstance(made, rrule)
    return made


def to_utc(local: datetime, zone: ZoneInfo) -> datetime:
    """A local time as UTC; skipped and repeated times by RFC 5545 section 3.3.5."""
    return local.replace(tzinfo=zone, fold=0).astimezone(UTC)


def occurrences(
    rule: str, starts_on: date, at: time, zone: ZoneInfo, *, after: datetime
) -> Iterator[datetime]:
    """The rule's occurrences after a moment, as UTC times, in order; endless unless the rule ends.

    `starts_on` is the first day that counts (DTSTART's date), `at` the local time of day.
    """
    expansion = _expansion(rule, datetime.combine(starts_on, at), zone)
    local_after = after.astimezone(zone).replace(tzinfo=None)
    # A clock change can move a local time by its offset; begin a day early and compare in UTC.
    begin = local_after.replace(hour=0, minute=0, second=0, microsecond=0)
    for local in expansion.xafter(begin, inc=True):
        due = to_utc(local, zone)
        if due > after:
            yield due


def next_dates(
    rule: str, starts_on: date, at: time, zone: ZoneInfo, *, after: datetime, most: int = 5
) -> list[datetime]:
    """At most the next `most` occurrences."""
    return list(islice(occurrences(rule, starts_on, at, zone, after=after), most))


def in_words(rule: str, at: time) -> str:
    """The rule as people say it: ``every Tuesday at 18:30``. Unusual rules are given as written."""
    found = parts(rule)
    every = int(found.get("INTERVAL", "1"))
    unusual = found.keys() & {"BYSETPOS", "BYMONTH"}
    days = [d for d in found.get("BYDAY", "").split(",") if d]
    month_days = [int(d) for d in found.get("BYMONTHDAY", "").split(",") if d]
    when = f"at {at:%H:%M}"
    end = ""
    if "COUNT" in found:
        end = f", {count(int(found['COUNT']), 'time')}"
    elif "UNTIL" in found:
        day = found["UNTIL"]
        end = f", until {day[:4]}-{day[4:6]}-{day[6:8]}"
    frequency = found["FREQ"]
    if not unusual and frequency == "DAILY" and not days and not month_days:
        return f"{'every day' if every == 1 else f'every {every} days'} {when}{end}"
    if not unusual and frequency == "WEEKLY" and all(d in _DAYS for d in days) and not month_days:
        names = _list([_DAYS[d] for d in days])
        if every == 1:
            return f"every {names or 'week'} {when}{end}"
        return f"every {every} weeks{f' on {names}' if names else ''} {when}{end}"
    if not unusual and frequency == "MONTHLY":
        month = "month" if every == 1 else f"{every} months"
        if month_days and not days:
            on = _list(["the last day" if d == -1 else f"the {_ordinal(d)}" for d in month_days])
            return f"every {month} on {on} {when}{end}"
        if len(days) == 1 and not month_days and days[0][-2:] in _DAYS and days[0][:-2]:
            nth = int(days[0][:-2])
            if nth in _NTH:
                return f"every {month} on the {_NTH[nth]} {_DAYS[days[0][-2:]]} {when}{end}"
    return f"{rule} {when}"


def _list(words: list[str]) -> str:
    if len(words) < 2:
        return "".join(words)
    return ", ".join(words[:-1]) + " and " + words[-1]


def _ordinal(number: int) -> str:
    if number < 0:
        return f"{_ordinal(-number)} day from the end"
    endings = {} if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}
    return f"{number}{endings.get(number % 10, 'th')}"
