"""A recurrence in plain words, read: ``first Monday of the month at 7pm``.

Words become tokens of one spelling each (``MO``, ``#2``, ``@1``, ``m03``), what they say of times
and days is taken out, and the rest must fit one form as a whole. What fits none, or could mean two
things, is refused with what to say instead; nothing that was said is dropped.
"""

from __future__ import annotations

import calendar
import difflib
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date, time

from phylax.core.scheduling.recurrence_words import DAYS, MONTHS, in_words, ordinal
from phylax.core.scheduling.word_tokens import (
    UnknownWordError,
    closest,
    date_of,
    time_of,
    tokens_of,
)

LONGEST = 300
"""Characters of what is read as plain words."""
_CODES = tuple(DAYS)
WORKING = ("MO", "TU", "WE", "TH", "FR")
_WEEKEND = ("SA", "SU")
EXAMPLES = (
    "every day", "every working day", "every Tuesday", "every Tuesday and Thursday",
    "Monday to Friday", "every weekend", "every 2 weeks on Monday", "every month",
    "every 3 months", "the 1st and 15th of every month", "the last day of every month",
    "the first Monday of every month", "the last Friday of every month",
    "the first working day of every month", "every 3 months on the first Monday",
    "every year on 25 December", "every day except Sunday",
)  # fmt: skip
ALLOWED = (
    "say it as in 'every Tuesday', 'every 2 weeks on Monday', 'the 1st and 15th of every month', "
    "'the last Friday of every month', 'every 3 months on the first working day', with ', 5 times' "
    "or ', until 2027-06-30' behind it, or write a recurrence rule as in 'FREQ=WEEKLY;BYDAY=TU'"
)


@dataclass(frozen=True)
class Spoken:
    """What plain words say: a recurrence rule, and times and days where they say those too."""

    rule: str
    at: time | None = None
    closes: time | None = None
    starts_on: date | None = None


def from_words(text: str) -> str:
    """The recurrence rule that plain words mean, where they say no time of day and no first day.
    ValueError says what to say instead."""
    spoken = read_words(text)
    if spoken.at or spoken.starts_on:
        part = f"a time, {spoken.at:%H:%M}" if spoken.at else f"a first day, {spoken.starts_on}"
        raise ValueError(
            f"{text!r} says {part}: here say only how often, and that in its own field"
        )
    return spoken.rule


def read_words(text: str) -> Spoken:
    """What plain words mean. ValueError says what to say instead."""
    if len(text) > LONGEST:
        raise ValueError(f"say how often in at most {LONGEST} characters")
    try:
        return _read(text)
    except UnknownWordError as error:
        meant = _with_closest(text, error, depth=3)
        if meant is None:
            raise ValueError(f"{text!r} is not understood: {error}; {ALLOWED}") from None
        raise ValueError(f"{text!r} is not understood: {error}; did you mean {meant!r}?") from None


def _with_closest(text: str, unknown: UnknownWordError, *, depth: int) -> str | None:
    """The same with its unknown words replaced by the closest known ones, as we would say it."""
    for known in closest(unknown.word):
        words = re.sub(rf"\b{re.escape(unknown.word)}\b", known, text, flags=re.IGNORECASE)
        try:
            return _in_our_words(_read(words))
        except UnknownWordError as again:
            meant = _with_closest(words, again, depth=depth - 1) if depth else None
            if meant is not None:
                return meant
        except ValueError:
            continue
    return None


def _in_our_words(spoken: Spoken) -> str:
    parts = dict(part.split("=") for part in spoken.rule.split(";"))
    return in_words(parts, spoken.at) or spoken.rule


def _read(text: str) -> Spoken:
    said = " ".join(tokens_of(text))
    for pattern, instead in _TWO_MEANINGS:
        if match := pattern.search(said):
            raise ValueError(f"{text!r} {_filled(instead, match)}")
    said, spoken = _times(text, said)
    said, first_day = _first_day(said)
    said, end = _end(text, said)
    said, but_not = _left_out(said)
    # commas and articles are gone where they part no list
    said = said.removesuffix(" and").removeprefix("and ").strip(" ,")
    for pattern, rule_of in _FORMS:
        if match := pattern.fullmatch(said):
            rule = rule_of(_Fields(text, {k: v for k, v in match.groupdict().items() if v}))
            if but_not:
                rule = _without(text, rule, but_not)
            return replace(spoken, rule=rule + end, starts_on=first_day)
    near = difflib.get_close_matches(text.casefold(), [e.casefold() for e in EXAMPLES], 2, 0.6)
    did = " or ".join(f"'{e}'" for e in EXAMPLES if e.casefold() in near)
    raise ValueError(f"{text!r} is not understood; " + (f"did you mean {did}?" if did else ALLOWED))


def _filled(words: str, match: re.Match[str]) -> str:
    """A suggestion with what was said in it: {1} a number or place, {day} a day."""
    groups = match.groupdict()
    day = DAYS.get(groups.get("day") or "", "Monday")
    number = int(groups.get("n") or 2)
    return words.format(day=day, n=number, nth=ordinal(number))


# --- what is said beside how often -----------------------------------------------------------

_TIME = r"t\d\d:\d\d"
_WINDOW = re.compile(
    rf"(?:(?:at|from|between) )?(?P<at>{_TIME}) (?:to|until|and) (?P<closes>{_TIME})"
)
_AT = re.compile(rf"(?:(?:at|from) )?(?P<at>{_TIME})")
_DATE = r"d\d{4}-\d\d-\d\d"
_FIRST_DAY = re.compile(rf"(?:from|starting) (?P<day>{_DATE})")
_END = re.compile(rf"(?:until (?P<until>{_DATE})|(?:for )?#(?P<times>\d+) times?)(?= |$)")


def _without_match(said: str, match: re.Match[str]) -> str:
    return " ".join(f"{said[: match.start()]} {said[match.end() :]}".split()).strip(", ")


def _times(text: str, said: str) -> tuple[str, Spoken]:
    """Time of day, or the window from one to another, taken out."""
    for pattern in (_WINDOW, _AT):
        match = pattern.search(said)
        if match is None:
            continue
        times = match.groupdict()
        if times.get("closes") and " and " in match[0] and not match[0].startswith("between"):
            break
        rest = _without_match(said, match)
        if re.search(_TIME, rest):
            break
        closes = times.get("closes")
        return rest, Spoken("", time_of(times["at"]), time_of(closes) if closes else None)
    if re.search(_TIME, said):
        raise ValueError(
            f"{text!r} names several times of day; a round starts once a day: make one for each, "
            "or say a window as in 'from 18:30 to 23:00'"
        )
    if match := re.search(r"\bat #(\d+)\b", said):
        hour = int(match[1])
        if 1 <= hour <= 12:
            raise ValueError(
                f"{text!r}: {hour} in the morning or in the evening? Say 'at {hour:02d}:00' or "
                f"'at {hour % 12 + 12}:00'"
            )
        raise ValueError(f"{text!r}: write the time of day as in 'at 18:30' or 'at 7pm'")
    return said, Spoken("")


def _first_day(said: str) -> tuple[str, date | None]:
    match = _FIRST_DAY.search(said)
    if match is None:
        return said, None
    return _without_match(said, match), date_of(match["day"])


def _end(text: str, said: str) -> tuple[str, str]:
    """COUNT or UNTIL, taken out."""
    match = _END.search(said)
    if match is None:
        if re.search(r"\b(until|for)\b", said):
            raise ValueError(
                f"{text!r}: say its end as a whole date or a number of times, as in "
                "', until 2027-06-30' or ', 5 times'"
            )
        return said, ""
    rest = _without_match(said, match)
    if match["until"]:
        return rest, f";UNTIL={date_of(match['until']):%Y%m%d}"
    if not 1 <= int(match["times"]) <= 10_000:
        raise ValueError(f"{text!r}: it can recur 1 to 10000 times")
    return rest, f";COUNT={int(match['times'])}"


def _left_out(said: str) -> tuple[str, tuple[str, ...]]:
    match = re.search(rf"except (?P<days>{_DAY_LIST})$", said)
    if match is None:
        return said, ()
    return _without_match(said, match), _days(match["days"])


def _without(text: str, rule: str, but_not: tuple[str, ...]) -> str:
    """A rule of days of every week, without some of them."""
    days = {"FREQ=DAILY": _CODES}.get(rule)
    if days is None and (match := re.fullmatch(r"FREQ=WEEKLY;BYDAY=([A-Z,]+)", rule)):
        days = tuple(match[1].split(","))
    left = [day for day in days or () if day not in but_not]
    if not left:
        raise ValueError(
            f"{text!r} leaves no day over; days are left out as in 'every day except Sunday'"
        )
    return f"FREQ=WEEKLY;BYDAY={','.join(left)}"


# --- forms -----------------------------------------------------------------------------------

_DAY = r"(?:MO|TU|WE|TH|FR|SA|SU)"
_DAYS_OR_SPAN = rf"(?:(?:from )?{_DAY} to {_DAY}|{_DAY}|workday|weekend)"
_SEP = r" (?:,|and|, and) "
_DAY_LIST = rf"{_DAYS_OR_SPAN}(?:(?:{_SEP}(?:every )?| ){_DAYS_OR_SPAN})*"
_MONTH_LIST = rf"m\d\d(?:{_SEP}m\d\d)*"
_DATE_OF_MONTH = r"(?:@-\d+ day|@\d+(?: day)?|#\d+|day #\d+)"
_PLAIN_DATE = r"(?:@-\d+ day|@\d+(?: day)?)"
_DATES = rf"{_DATE_OF_MONTH}(?:{_SEP}{_DATE_OF_MONTH})*"
_PLAIN_DATES = rf"{_PLAIN_DATE}(?:{_SEP}{_PLAIN_DATE})*|day #\d+(?:{_SEP}#\d+)*"
_PLACES = rf"@-?\d+(?:{_SEP}@-?\d+)*"
_EVERY_N = r"(?:every )?(?:(?P<n>#\d+|@\d+|other) )?"
_MONTHLY = rf"(?P<span>monthly|quarterly|every quarter|halfyearly|{_EVERY_N}month)"
_WEEKLY = rf"(?P<span>weekly|fortnightly|{_EVERY_N}(?:week|fortnight))"
_YEARLY = rf"(?P<span>yearly|{_EVERY_N}year)"


@dataclass(frozen=True)
class _Fields:
    """What a form caught, and the whole text for what is said of it."""

    text: str
    by_name: dict[str, str]

    def __getitem__(self, name: str) -> str:
        return self.by_name.get(name, "")

    def every(self, times: int = 1) -> str:
        """INTERVAL as it is said, so many times over for spans that have a name of their own."""
        said = self["n"]
        number = 2 if said == "other" else int(said.lstrip("#@") or 1) if said else 1
        if number < 1:
            raise ValueError(f"{self.text!r}: every 0 would be never; say 'every 2 weeks' or more")
        if number * times > 1000:
            raise ValueError(f"{self.text!r}: it can recur every 1000 at the longest")
        return f";INTERVAL={number * times}" if number * times > 1 else ""


def _days(words: str) -> tuple[str, ...]:
    """Days of the week, in its order; spans go round its end."""
    days = set[str]()
    for match in re.finditer(rf"workday|weekend|({_DAY})(?: to ({_DAY}))?", words):
        if match[1] is None:
            days.update(WORKING if match[0] == "workday" else _WEEKEND)
            continue
        begin = _CODES.index(match[1])
        length = (_CODES.index(match[2]) - begin) % 7 if match[2] else 0
        days.update(_CODES[(begin + n) % 7] for n in range(length + 1))
    return tuple(code for code in _CODES if code in days)


def _dates(fields: _Fields) -> list[int]:
    """Days of a month as BYMONTHDAY counts them."""
    numbers = [int(n) for n in re.findall(r"-?\d+", fields["dates"])]
    for number in numbers:
        if number == 0 or number > 31 or number < -2:
            raise ValueError(f"{fields.text!r}: no month has a day {number}; say 1st to 31st")
    return list(dict.fromkeys(numbers))


def _in_months(fields: _Fields, months: list[int], dates: list[int]) -> str:
    for number in dates:
        short = [m for m in months if number > calendar.monthrange(2024, m)[1]]
        if short:
            name = MONTHS[short[0] - 1]
            raise ValueError(
                f"{fields.text!r}: {name} has no {ordinal(number)}; say 'the last day of {name}'"
            )
    return f"FREQ=YEARLY{fields.every()};BYMONTH={_joined(months)};BYMONTHDAY={_joined(dates)}"


def _joined(numbers: list[int]) -> str:
    return ",".join(str(number) for number in numbers)


def _months(words: str) -> list[int]:
    return sorted({int(n) for n in re.findall(r"m(\d\d)", words)})


def _placed(fields: _Fields) -> str:
    """BYDAY (and BYSETPOS) of places in a month."""
    places = [int(n) for n in re.findall(r"-?\d+", fields["places"])]
    if any(place == 0 or place > 5 or place < -2 for place in places):
        raise ValueError(
            f"{fields.text!r}: a month has a first to fifth, and a last; say 'the last Friday of "
            "every month'"
        )
    if fields["day"] == "workday":
        return f"BYDAY={','.join(WORKING)};BYSETPOS={_joined(places)}"
    return "BYDAY=" + ",".join(f"{place}{fields['day']}" for place in places)


def _weekly(fields: _Fields) -> str:
    fortnight = 2 if "fortnight" in fields["span"] else 1
    days = _days(fields["days"]) if fields["days"] else ()
    return f"FREQ=WEEKLY{fields.every(fortnight)}" + (f";BYDAY={','.join(days)}" if days else "")


def _monthly_span(fields: _Fields) -> str:
    named = {"quarterly": 3, "every quarter": 3, "halfyearly": 6}
    return f"FREQ=MONTHLY{fields.every(named.get(fields['span'], 1))}"


def _monthly_dates(fields: _Fields) -> str:
    return f"{_monthly_span(fields)};BYMONTHDAY={_joined(_dates(fields))}"


def _yearly_placed(fields: _Fields) -> str:
    months = _joined(_months(fields["months"]))
    return f"FREQ=YEARLY{fields.every()};BYMONTH={months};{_placed(fields)}"


def _dates_alone(fields: _Fields) -> str:
    dates = _dates(fields)
    if fields["every"] and len(dates) == 1 and 2 <= dates[0] <= 12:
        nth = ordinal(dates[0])
        raise ValueError(
            f"{fields.text!r}: every {nth} of what? Say 'the {nth} of every month' or "
            f"'every {dates[0]} days'"
        )
    return f"FREQ=MONTHLY;BYMONTHDAY={_joined(dates)}"


def _of_quarter(fields: _Fields) -> list[int]:
    """The months in which a quarter's first or last days lie."""
    return (
        [3, 6, 9, 12]
        if fields["places"].startswith("@-") or "@-" in fields["dates"]
        else [1, 4, 7, 10]
    )


def _same_date_each(fields: _Fields) -> str:
    """``1 March and 1 September``: one rule where the day is the same."""
    pairs = [
        (int(day or other), int(month))
        for day, month, other in (
            (m[1] or "", m[2] or m[3], m[4] or "")
            for m in re.finditer(
                r"[#@](\d+) (?:of )?m(\d\d)|m(\d\d) [#@](\d+)", fields["yeardates"]
            )
        )
    ]
    dates = {day for day, _ in pairs}
    if len(dates) > 1:
        raise ValueError(
            f"{fields.text!r}: different days in different months; make a round for each"
        )
    if 0 in dates or max(dates) > 31:
        raise ValueError(f"{fields.text!r}: no month has a day {max(dates)}; say 1st to 31st")
    return _in_months(fields, sorted({month for _, month in pairs}), sorted(dates))


_YEAR_DATE = r"(?:[#@]\d+ m\d\d|[#@]\d+ of m\d\d|m\d\d [#@]\d+)"
_YEAR_DATES = rf"{_YEAR_DATE}(?:{_SEP}{_YEAR_DATE})*"
_OF_YEARS = rf"(?: (?:of )?{_YEARLY})?"
_MONTHS_SAID = rf"(?P<months>{_MONTH_LIST})"
_PLACED = rf"(?P<places>{_PLACES}) (?P<day>{_DAY}|workday)"

_FORMS: tuple[tuple[re.Pattern[str], Callable[[_Fields], str]], ...] = tuple(
    (re.compile(pattern), rule_of)
    for pattern, rule_of in (
        (r"daily|(?:every )?day", lambda f: "FREQ=DAILY"),
        (r"every (?P<n>#\d+|@\d+|other) day", lambda f: f"FREQ=DAILY{f.every()}"),
        (rf"(?:every )?(?P<days>{_DAY_LIST})", _weekly),
        (rf"{_WEEKLY}(?: (?P<days>{_DAY_LIST}))?", _weekly),
        (rf"(?P<days>{_DAY_LIST}) (?:of )?{_WEEKLY}", _weekly),
        (rf"every (?P<n>other|#\d+) (?P<days>{_DAY_LIST})", _weekly),
        (rf"(?:every )?{_PLACED} of (?:every )?quarter",
         lambda f: f"FREQ=YEARLY;BYMONTH={_joined(_of_quarter(f))};{_placed(f)}"),
        (rf"(?:every )?(?P<dates>{_DATES}) of (?:every )?quarter",
         lambda f: _in_months(f, _of_quarter(f), _dates(f))),
        (rf"{_MONTHLY}", _monthly_span),
        (rf"{_MONTHLY} (?P<dates>{_DATES})", _monthly_dates),
        (rf"(?:every )?(?P<dates>{_DATES}) (?:of )?{_MONTHLY}", _monthly_dates),
        (rf"(?P<every>every )?(?P<dates>{_PLAIN_DATES})", _dates_alone),
        (rf"{_MONTHLY} (?:every )?{_PLACED}",
         lambda f: f"{_monthly_span(f)};{_placed(f)}"),
        (rf"(?:every )?{_PLACED}(?: (?:of )?{_MONTHLY})?",
         lambda f: f"{_monthly_span(f)};{_placed(f)}"),
        (rf"(?:every )?{_PLACED} of (?:every )?{_MONTHS_SAID}{_OF_YEARS}", _yearly_placed),
        (rf"{_YEARLY} {_PLACED} of {_MONTHS_SAID}", _yearly_placed),
        (rf"(?:every )?(?P<dates>{_DATES}) (?:of )?(?:every )?{_MONTHS_SAID}{_OF_YEARS}",
         lambda f: _in_months(f, _months(f["months"]), _dates(f))),
        (rf"{_YEARLY} (?P<dates>{_DATES}) of {_MONTHS_SAID}",
         lambda f: _in_months(f, _months(f["months"]), _dates(f))),
        (rf"(?:every )?(?P<yeardates>{_YEAR_DATES}){_OF_YEARS}", _same_date_each),
        (rf"{_YEARLY} (?P<yeardates>{_YEAR_DATES})", _same_date_each),
        (rf"{_YEARLY}", lambda f: f"FREQ=YEARLY{f.every()}"),
    )
)  # fmt: skip

_TWO_MEANINGS = tuple(
    (re.compile(pattern), instead)
    for pattern, instead in (
        (rf"^every @(?P<n>[2-5]) (?P<day>{_DAY})(?! (?:of|every|month|quarter))",
         "can mean two things: say 'every {n} weeks on {day}' or 'the {nth} {day} of every month'"),
        (r"^every @(?P<n>[2-5]) workday(?! (?:of|every|month|quarter))",
         "can mean two things: say 'the {nth} working day of every month' or 'every {n} days'"),
        (r"\bbiweekly\b",
         "can mean two things: say 'every 2 weeks' or 'every Monday and Thursday'"),
        (r"\bbimonthly\b",
         "can mean two things: say 'every 2 months' or 'the 1st and 15th of every month'"),
        (r"\bbiannual\b", "can mean two things: say 'every 6 months' or 'every 2 years'"),
        (r"#\d+ times? (?:every )?week",
         "does not say on which days: say them, as in 'every Monday and Thursday'"),
        (r"#\d+ times? (?:every )?month",
         "does not say on which days: say them, as in 'the 1st and 15th of every month'"),
        (r"#\d+ times? (?:every )?(?:year|quarter)",
         "does not say when: say 'every 6 months', or dates as in '1 March and 1 September'"),
        (r"\bhour\b|\bminute\b",
         "is counted in hours: a round runs at most once a day, so say days, as in 'every 3 days'"),
        (r"#\d+ times? (?:every )?day",
         "is more than once a day: a round runs at most once a day, as in 'every day at 18:30'"),
        (r"@-?\d+ weekend",
         "does not say which day of the weekend: say it as in 'the first Saturday of every month'"),
        (r"@-?\d+ week of",
         "does not say on which day: say it as in 'the first Monday of every month'"),
        (r"\bpartofday\b",
         "does not say when: say a time of day, as in 'every day at 18:30'"),
        (r"\bonetime\b|^#1 times$",
         "does not recur: for one time run its routine, as in 'phylax routine run'"),
        (r"\bvague\b",
         "does not say how often: say it as in 'every Tuesday' or 'every 2 weeks'"),
        (r"\bholiday\b",
         "depends on the calendar of feasts, which is not known: say a date, as in "
         "'every year on 24 December'"),
        (rf"^(?:every )?{_MONTH_LIST}$",
         "does not say on which day: say it as in 'the first Monday of March' or "
         "'every year on 1 March'"),
    )
)  # fmt: skip
