"""Recurrence rules as people say them: ``every Tuesday`` for ``FREQ=WEEKLY;BYDAY=TU``."""

from __future__ import annotations

from datetime import datetime, time

from phylax.core.ground.quantities import count, listed

DAYS = {
    "MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday",
    "FR": "Friday", "SA": "Saturday", "SU": "Sunday",
}  # fmt: skip
_WORKING = "MO,TU,WE,TH,FR"
_NTH = {1: "first", 2: "second", 3: "third", 4: "fourth", 5: "fifth", -1: "last",
        -2: "second-to-last"}  # fmt: skip
MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September",
    "October", "November", "December",
)  # fmt: skip
_UNITS = {"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}


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
    if not by:
        return span
    match rule_parts["FREQ"]:
        case "WEEKLY" if by == ["BYDAY"]:
            days = rule_parts["BYDAY"].split(",")
            return _weekly(span, every, days) if all(day in DAYS for day in days) else None
        case "MONTHLY" if "BYMONTH" not in by:
            days_said = _of_month(rule_parts, by)
            return f"{span} on {days_said}" if days_said else None
        case "YEARLY" if "BYMONTH" in by:
            return _yearly(span, rule_parts, [name for name in by if name != "BYMONTH"])
    return None


def _yearly(span: str, rule_parts: dict[str, str], by: list[str]) -> str | None:
    month_numbers = [int(month) for month in rule_parts["BYMONTH"].split(",")]
    months = listed([MONTHS[number - 1] for number in month_numbers])
    dates = rule_parts.get("BYMONTHDAY", "")
    if by == ["BYMONTHDAY"] and dates.isdecimal() and len(month_numbers) == 1:
        return f"{span} on {int(dates)} {months}"
    days_said = _of_month(rule_parts, by)
    return f"{span} on {days_said} of {months}" if days_said else None


def _of_month(rule_parts: dict[str, str], by: list[str]) -> str | None:
    """Days of a month: ``the 1st and the last day``, ``the first Monday``."""
    match by:
        case ["BYMONTHDAY"]:
            dates = [int(date) for date in rule_parts["BYMONTHDAY"].split(",")]
            if any(date < -2 for date in dates):
                return None
            return listed([f"the {_NTH[date]} day" if date < 0 else f"the {ordinal(date)}"
                          for date in dates])  # fmt: skip
        case ["BYDAY"]:
            days = rule_parts["BYDAY"].split(",")
            names = {day[-2:] for day in days}
            places = [_NTH.get(int(day[:-2] or 0)) for day in days]
            if len(names) == 1 and all(places):
                return f"the {listed([str(place) for place in places])} {DAYS[names.pop()]}"
        case ["BYDAY", "BYSETPOS"] if rule_parts["BYDAY"] == _WORKING:
            places = [_NTH.get(int(place)) for place in rule_parts["BYSETPOS"].split(",")]
            if all(places):
                return f"the {listed([str(place) for place in places])} working day"
    return None


def _weekly(span: str, every: int, days: list[str]) -> str:
    if every == 1 and ",".join(days) == _WORKING:
        return "every working day"
    names = listed([DAYS[d] for d in days])
    return f"every {names}" if every == 1 else f"{span} on {names}"


def ordinal(number: int) -> str:
    endings = {} if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}
    return f"{number}{endings.get(number % 10, 'th')}"
