"""Recurrence rules (RFC 5545) in a time zone: from a rule to its occurrences.

Expansion of the rule in local time is dateutil's; this module says which rules are taken, and maps
local times to UTC as RFC 5545 section 3.3.5 demands: a time that a clock change skips is read with
the offset before the change, one that it repeats is the first of the two.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, time
from itertools import islice
from typing import Annotated
from zoneinfo import ZoneInfo

from dateutil.rrule import rrule, rrulestr
from pydantic import AfterValidator, Field

from phylax.core.recurrence_words import from_words, in_words

_PARTS = frozenset(
    {"FREQ", "INTERVAL", "COUNT", "UNTIL", "BYDAY", "BYMONTHDAY", "BYMONTH", "BYSETPOS", "WKST"}
)
_RANGES = {
    "INTERVAL": (1, 1000), "COUNT": (1, 10_000), "BYMONTHDAY": (1, 31), "BYMONTH": (1, 12),
    "BYSETPOS": (1, 366),
}  # fmt: skip
_FROM_THE_END = frozenset({"BYMONTHDAY", "BYSETPOS"})
_FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")


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
    """The rule in its plain form, from a rule or plain words; ValueError where it is neither."""
    found = parts(rule if "=" in rule else from_words(rule))
    plain = ";".join(f"{name}={value}" for name, value in found.items())
    _expansion(plain, datetime.combine(date(2000, 1, 1), time()), ZoneInfo("UTC"))
    return plain


RecurrenceRule = Annotated[
    str,
    AfterValidator(checked_rule),
    Field(
        description="RFC 5545 RECUR value; plain words such as 'every Tuesday' are read as one",
        examples=["FREQ=WEEKLY;BYDAY=TU"],
    ),
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


def how_often(rule: str, at: time | None = None) -> str:
    """The rule as people say it: ``every Tuesday at 18:30``. Unusual rules are given as written."""
    said = in_words(parts(rule), at)
    if said is None:
        return rule if at is None else f"{rule} at {at:%H:%M}"
    return said
