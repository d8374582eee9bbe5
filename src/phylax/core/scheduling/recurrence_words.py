"""Recurrence rules in plain words, both ways: ``every Tuesday`` and ``FREQ=WEEKLY;BYDAY=TU``."""

from __future__ import annotations

import re
from datetime import date, datetime, time

from phylax.core.quantities import count

DAYS = {
    "MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday",
    "FR": "Friday", "SA": "Saturday", "SU": "Sunday",
}  # fmt: skip
_WORKING = "MO,TU,WE,TH,FR"
_NTH = {1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last"}
_MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September",
    "October", "November", "December",
)  # fmt: skip
_UNITS = {"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}

# --- from words ------------------------------------------------------------------------------

_NUMBERS = {
    "one": 1, "other": 2, "two": 2, "second": 2, "three": 3, "third": 3, "four": 4, "fourth": 4,
    "five": 5, "six": 6, "eight": 8, "ten": 10, "twelve": 12,
}  # fmt: skip
_PLACES = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
_DAY = "(?:" + "|".join(f"{name.lower()}s?" for name in DAYS.values()) + ")"
_AND = r"(?:\s*,\s*(?:and\s+)?|\s+and\s+)"
_DAY_LIST = rf"{_DAY}(?:{_AND}{_DAY})*"
_ORDINAL = r"(?:(?:the\s+)?(?:\d{1,2}(?:st|nd|rd|th)?|last day|first day|first))"
_ORDINALS = rf"{_ORDINAL}(?:{_AND}{_ORDINAL})*"
_MONTH_SPAN = r"(?:every|each|the)?\s*(?P<n>\d+|[a-z]+)?\s*months?"
_FORMS = tuple(
    (re.compile(pattern, re.IGNORECASE), name)
    for pattern, name in (
        (r"(?:daily|every day)", "day"),
        (r"every (?P<n>\d+|[a-z]+) days?", "day"),
        (r"(?:every|on) (?:weekday|working day)s?", "working"),
        (rf"(?:(?:every|each|on|weekly on) )(?P<days>{_DAY_LIST})", "week"),
        (rf"every (?P<n>\d+|[a-z]+) (?P<days>{_DAY_LIST})", "week"),
        (rf"(?:weekly|every week)(?: on (?P<days>{_DAY_LIST}))?", "week"),
        (rf"every (?P<n>\d+|[a-z]+) weeks?(?: on (?P<days>{_DAY_LIST}))?", "week"),
        (rf"(?:monthly|{_MONTH_SPAN}) on (?P<dates>{_ORDINALS})", "month"),
        (rf"(?:on )?(?P<dates>{_ORDINALS}) of {_MONTH_SPAN}", "month"),
        (rf"(?:monthly|{_MONTH_SPAN}) on (?:the )?(?P<place>[a-z]+) "
         rf"(?P<day>{_DAY}|working day)", "place"),
        (rf"(?:on )?(?:every |the )?(?P<place>[a-z]+) (?P<day>{_DAY}|working day) of "
         rf"{_MONTH_SPAN}", "place"),
        (rf"(?:yearly|every year)(?: on (?P<date>\d{{1,2}}) (?P<month>{'|'.join(_MONTHS)}))?",
         "year"),
    )
)  # fmt: skip
_END = re.compile(
    r",?\s+(?:(?:until|till) (?P<until>\d{4}-\d{2}-\d{2})|(?P<count>\d{1,5}) times?)$"
)
_AT = re.compile(r"\s+at \d{1,2}:\d{2}\b")
ALLOWED = (
    "say it as in 'every Tuesday', 'every 2 weeks on Monday', 'every month on the 1st and 15th', "
    "'the last Friday of every month', 'every 3 months on the first working day', with ', 5 times' "
    "or ', until 2027-06-30' behind it, or write a recurrence rule as in 'FREQ=WEEKLY;BYDAY=TU'"
)


def from_words(text: str) -> str:
    """The recurrence rule that plain words mean. ValueError says which words are taken."""
    words = _AT.sub("", " ".join(text.lower().split()))
    end = ""
    if ending := _END.search(words):
        words = words[: ending.start()]
        end = (
            f";COUNT={ending['count']}" if ending["count"] else f";UNTIL={_plain(ending['until'])}"
        )
    for pattern, form in _FORMS:
        match = pattern.fullmatch(words)
        rule = _rule(form, match.groupdict()) if match else None
        if rule is not None:
            return rule + end
    raise ValueError(f"{text!r} is not understood; {ALLOWED}")


def _plain(day: str) -> str:
    try:
        return date.fromisoformat(day).strftime("%Y%m%d")
    except ValueError:
        raise ValueError(f"{day!r} is no day of the calendar; write it as in 2027-06-30") from None


def _rule(form: str, fields: dict[str, str | None]) -> str | None:
    """A rule from what a form caught; None where its words mean nothing."""
    every = _number(fields.get("n"))
    if every is None:
        return None
    interval = f";INTERVAL={every}" if every > 1 else ""
    match form:
        case "day":
            return f"FREQ=DAILY{interval}"
        case "working":
            return f"FREQ=WEEKLY;BYDAY={_WORKING}"
        case "week":
            days = _codes(fields.get("days") or "")
            return f"FREQ=WEEKLY{interval}" + (f";BYDAY={days}" if days else "")
        case "month":
            return f"FREQ=MONTHLY{interval};BYMONTHDAY={_dates(fields.get('dates') or '')}"
        case "place":
            place = _PLACES.get(fields.get("place") or "")
            if place is None:
                return None
            if fields.get("day") == "working day":
                return f"FREQ=MONTHLY{interval};BYDAY={_WORKING};BYSETPOS={place}"
            return f"FREQ=MONTHLY{interval};BYDAY={place}{_codes(fields.get('day') or '')}"
    month = fields.get("month")
    if month is None:
        return "FREQ=YEARLY"
    number = [name.lower() for name in _MONTHS].index(month) + 1
    return f"FREQ=YEARLY;BYMONTH={number};BYMONTHDAY={int(fields.get('date') or 1)}"


def _number(word: str | None) -> int | None:
    if word is None:
        return 1
    return int(word) if word.isdecimal() else _NUMBERS.get(word)


def _codes(days: str) -> str:
    names = re.findall(_DAY, days)
    return ",".join(code for code, name in DAYS.items() if any(name.lower() in d for d in names))


def _dates(words: str) -> str:
    numbers = re.findall(r"\d+|last day|first", words)
    fixed = {"last day": -1, "first": 1}
    return ",".join(str(fixed.get(number) or int(number)) for number in numbers)


# --- in words --------------------------------------------------------------------------------


def in_words(rule_parts: dict[str, str], at: time | None = None) -> str | None:
    """A rule's parts as people say them: ``every Tuesday at 18:30``; None for unusual rules."""
    words = _how_often(rule_parts)
    if words is None:
        return None
    when = "" if at is None else f" at {at:%H:%M}"
    end = ""
    if "COUNT" in rule_parts:
        end = f", {count(int(rule_parts['COUNT']), 'time')}"
    elif "UNTIL" in rule_parts:
        end = f", until {datetime.strptime(rule_parts['UNTIL'][:8], '%Y%m%d').date()}"  # noqa: DTZ007
    return f"{words}{when}{end}"


def _how_often(rule_parts: dict[str, str]) -> str | None:
    by = sorted(name for name in rule_parts if name.startswith("BY"))
    every = int(rule_parts.get("INTERVAL", "1"))
    unit = _UNITS[rule_parts["FREQ"]]
    span = f"every {unit}" if every == 1 else f"every {every} {unit}s"
    days = [d for d in rule_parts.get("BYDAY", "").split(",") if d]
    match rule_parts["FREQ"], by:
        case (("DAILY" | "WEEKLY"), []):
            return span
        case "YEARLY", [] if every == 1:
            return span
        case "WEEKLY", ["BYDAY"] if all(d in DAYS for d in days):
            return _weekly(span, every, days)
        case "MONTHLY", ["BYMONTHDAY"]:
            dates = [int(d) for d in rule_parts["BYMONTHDAY"].split(",")]
            if all(d > 0 or d == -1 for d in dates):
                day_words = ["the last day" if d == -1 else f"the {_ordinal(d)}" for d in dates]
                return f"{span} on {_list(day_words)}"
        case "MONTHLY", ["BYDAY"] if len(days) == 1 and days[0][:-2]:
            place = _NTH.get(int(days[0][:-2]))
            return f"{span} on the {place} {DAYS[days[0][-2:]]}" if place else None
        case "MONTHLY", ["BYDAY", "BYSETPOS"] if rule_parts["BYDAY"] == _WORKING:
            place = _NTH.get(int(rule_parts["BYSETPOS"])) if _one(rule_parts["BYSETPOS"]) else None
            return f"{span} on the {place} working day" if place else None
        case "YEARLY", ["BYMONTH", "BYMONTHDAY"] if every == 1:
            month, day = rule_parts["BYMONTH"], rule_parts["BYMONTHDAY"]
            if _one(month) and day.isdecimal():
                return f"every year on {day} {_MONTHS[int(month) - 1]}"
    return None


def _weekly(span: str, every: int, days: list[str]) -> str:
    if every == 1 and ",".join(days) == _WORKING:
        return "every working day"
    names = _list([DAYS[d] for d in days])
    return f"every {names}" if every == 1 else f"{span} on {names}"


def _one(numbers: str) -> bool:
    return "," not in numbers


def _list(words: list[str]) -> str:
    if len(words) < 2:
        return "".join(words)
    return ", ".join(words[:-1]) + " and " + words[-1]


def _ordinal(number: int) -> str:
    endings = {} if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}
    return f"{number}{endings.get(number % 10, 'th')}"
