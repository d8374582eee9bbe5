"""The words of recurrences, each in one spelling: ``mon`` and ``Mondays`` are both ``MO``.

Tokens: ``MO`` days, ``m03`` months, ``#2`` numbers, ``@1`` places and dates (``@-1`` the last),
``t18:30`` times of day, ``d2027-06-30`` dates; else plain words that forms are made of.
"""

from __future__ import annotations

import difflib
import re
import unicodedata
from collections.abc import Iterator
from datetime import date, time

from phylax.core.scheduling.recurrence_words import DAYS, MONTHS

_UNITS = (
    "day", "week", "month", "year", "quarter", "fortnight", "weekend", "hour", "minute",
)  # fmt: skip


class UnknownWordError(ValueError):
    """A word that recurrences are not said with."""

    def __init__(self, word: str) -> None:
        super().__init__(f"{word!r} says nothing of how often")
        self.word = word


_NUMBERS = (
    "zero", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten",
    "eleven", "twelve", "thirteen", "fourteen", "fifteen", "sixteen", "seventeen", "eighteen",
    "nineteen", "twenty",
)  # fmt: skip
_PLACES = (
    "zeroth", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth",
    "ninth", "tenth", "eleventh", "twelfth", "thirteenth", "fourteenth", "fifteenth",
)  # fmt: skip
_SHORT_DAYS = {
    "MO": "mon", "TU": "tue tues", "WE": "wed weds", "TH": "thu thur thurs", "FR": "fri",
    "SA": "sat", "SU": "sun",
}  # fmt: skip
_SHORT_MONTHS = (
    "jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep,sept", "oct", "nov", "dec",
)  # fmt: skip


def _vocabulary() -> dict[str, str]:
    """By word: its token. An empty one says nothing."""
    words: dict[str, str] = {}
    for code, name in DAYS.items():
        for short in (name.casefold(), *_SHORT_DAYS[code].split()):
            words[short] = words[f"{short}s"] = code
    for number, (name, short_names) in enumerate(zip(MONTHS, _SHORT_MONTHS, strict=True), 1):
        for short in (name.casefold(), *short_names.split(",")):
            words[short] = f"m{number:02d}"
    words |= {word: f"#{number}" for number, word in enumerate(_NUMBERS)}
    words |= {word: f"@{number}" for number, word in enumerate(_PLACES)}
    words |= {"last": "@-1", "final": "@-1", "penultimate": "@-2", "other": "other"}
    for unit in (
        "day",
        "week",
        "month",
        "year",
        "quarter",
        "fortnight",
        "weekend",
        "hour",
        "minute",
    ):
        words[unit] = words[f"{unit}s"] = unit
    words |= {"wk": "week", "wks": "week", "mth": "month", "mths": "month", "yr": "year",
              "yrs": "year", "hr": "hour", "hrs": "hour", "min": "minute", "mins": "minute",
              "hourly": "hour"}  # fmt: skip
    for word in ("workday", "weekday"):
        words[word] = words[f"{word}s"] = "workday"
    words |= dict.fromkeys(("every", "each", "any", "per"), "every")
    words |= {"all": "every"}
    words |= dict.fromkeys(("daily", "nightly", "everyday"), "daily")
    words |= {"night": "day", "nights": "day"}
    words |= {"weekly": "weekly", "fortnightly": "fortnightly", "monthly": "monthly",
              "quarterly": "quarterly", "halfyearly": "halfyearly", "semiannually": "halfyearly",
              "semiannual": "halfyearly", "yearly": "yearly", "annually": "yearly",
              "annual": "yearly", "biweekly": "biweekly", "bimonthly": "bimonthly",
              "biannually": "biannual", "biannual": "biannual", "biennially": "biannual",
              "semiweekly": "biweekly", "semimonthly": "bimonthly", "workdays": "workday",
              "weekdaily": "workday"}  # fmt: skip
    words |= dict.fromkeys(("alternate", "alternating"), "every other")
    words |= dict.fromkeys(("and", "&", "/", "+", "plus"), "and")
    words |= dict.fromkeys(("to", "through", "thru", "-"), "to")
    words |= dict.fromkeys(("of", "in"), "of")
    words |= dict.fromkeys(("except", "excluding", "without", "but"), "except")
    words |= dict.fromkeys(("starting", "beginning", "starts", "begins"), "starting")
    words |= {"at": "at", "@": "at", "from": "from", "between": "between", "until": "until",
              "till": "until", "til": "until", "for": "for", "time": "times", "times": "times",
              "twice": "#2 times", "thrice": "#3 times", "once": "#1 times", "noon": "t12:00",
              "midday": "t12:00", "midnight": "t00:00", ",": ",", "end": "end", "start": "start",
              "working": "working", "business": "working", "half": "half",
              "not": "not"}  # fmt: skip
    words |= dict.fromkeys(
        ("on", "the", "a", "an", "always", "please", "run", "runs", "it", "do"), ""
    )
    for word in ("morning", "evening", "afternoon", "lunchtime"):
        words[word] = words[f"{word}s"] = "partofday"
    words |= dict.fromkeys(("today", "tomorrow", "tonight", "now", "next", "this", "immediately"),
                           "onetime")  # fmt: skip
    words |= dict.fromkeys(
        ("sometimes", "regularly", "often", "occasionally", "never", "whenever", "rarely",
         "periodically", "frequently"), "vague",
    )  # fmt: skip
    words |= dict.fromkeys(("easter", "christmas", "holiday", "holidays", "spring", "summer",
                            "autumn", "winter", "xmas"), "holiday")  # fmt: skip
    return words


_WORDS = _vocabulary()
_PIECE = re.compile(
    r"(?P<date>\d{4}-\d{1,2}-\d{1,2})(?!\d)"
    r"|(?P<clock>\d{1,2}[:.]\d{2}(?!\d)(?:\s*[ap]\.?m\b\.?)?|\d{1,2}\s*[ap]\.?m\b\.?)"
    r"|(?P<place>\d{1,2}\s?(?:st|nd|rd|th)\b)"
    r"|(?P<number>\d+)(?![.\d])"
    r"|(?P<word>[^\W\d_]+)"
    r"|(?P<sign>[,&/+@-])"
    r"|(?P<space>\s+)"
)
_TOGETHER = (
    ("half yearly", "halfyearly"), ("half year", "#6 month"),
    ("working day", "workday"), ("@2 (?:to )*@-1", "@-2"), ("@-1 except #1", "@-2"),
    ("(?:except )?not", "except"), ("#1 times every", "every"),
    ("@-1 of", "@-1 day of"), ("month end", "@-1 day"), ("end of", "@-1 day of"),
    ("start of", "@1 day of"), ("starting of", "@1 day of"),
)  # fmt: skip
_LIST = re.compile(r"(?:MO|TU|WE|TH|FR|SA|SU|workday|weekend|day|m\d\d|[@#]-?\d+)$")


def tokens_of(text: str) -> list[str]:
    """The words of a recurrence as tokens; ValueError where a word, time or date is none."""
    said = " ".join(_pieces(text))
    said = " ".join(said.split())
    for words, token in _TOGETHER:
        said = re.sub(rf"(?<!\S){words}(?!\S)", token, said)
    said = re.sub(r"#1 times (?=(?:week|fortnight|month|year|quarter|day)\b)", "every ", said)
    said = re.sub(r"(?<!\S)(of|every) every(?!\S)", r"\1", said)
    said = _dates_together(said)
    return _without_stray_commas(said.split())


def _pieces(text: str) -> Iterator[str]:
    lowered = unicodedata.normalize("NFKC", text).casefold()
    lowered = re.sub(r"[‐-―−]", "-", lowered).replace("o'clock", "").replace("’", "'")
    # "semi-annually" and "bi-weekly" are one word each
    lowered = re.sub(r"\b(semi|bi|half)-(?=[a-z])", r"\1", lowered).replace("'s", "s")
    lowered = lowered.strip().rstrip(".!;")
    place = 0
    while place < len(lowered):
        match = _PIECE.match(lowered, place)
        if match is None:
            rest = lowered[place:].split()[0]
            if re.match(r"\d+[.]\d", rest):
                raise ValueError(f"{text!r}: say {rest} as a whole number, as in 'every 2 days'")
            raise UnknownWordError(rest)
        place = match.end()
        yield from _token(match)


def _token(match: re.Match[str]) -> Iterator[str]:
    text = match[0]
    match match.lastgroup:
        case "date":
            yield f"d{_whole_date(*(int(part) for part in text.split('-')))}"
        case "clock":
            yield f"t{_clock(text):%H:%M}"
        case "place":
            yield f"@{int(text.rstrip('stndrh '))}"
        case "number":
            if len(text) > 6:
                raise ValueError(f"{text} is too large a number for how often")
            yield f"#{int(text)}"
        case "word" | "sign":
            if text not in _WORDS:
                raise UnknownWordError(text)
            yield _WORDS[text]


def _clock(text: str) -> time:
    """A time of day by 24 hours, or by 12 with am or pm."""
    digits = re.findall(r"\d+", text)
    hour, minute = int(digits[0]), int(digits[1]) if len(digits) > 1 else 0
    half = re.search(r"[ap]", text)
    if half and not 1 <= hour <= 12:
        raise ValueError(f"{text!r} is not a time of day; write it as in 18:30 or 6:30pm")
    if half:
        hour = hour % 12 + (12 if half[0] == "p" else 0)
    try:
        return time(hour, minute)
    except ValueError:
        raise ValueError(f"{text!r} is not a time of day; write it as in 18:30") from None


def _whole_date(year: int, month: int, day: int) -> date:
    try:
        return date(year, month, day)
    except ValueError:
        raise ValueError(
            f"{year}-{month:02d}-{day:02d} is no day of the calendar; write it as in 2027-06-30"
        ) from None


def _dates_together(said: str) -> str:
    """``30 June 2027`` and ``June 30, 2027`` as one date."""

    def day_first(match: re.Match[str]) -> str:
        return f"d{_whole_date(int(match[3]), int(match[2]), int(match[1]))}"

    def month_first(match: re.Match[str]) -> str:
        return f"d{_whole_date(int(match[3]), int(match[1]), int(match[2]))}"

    said = re.sub(r"[#@](\d+) (?:of )?m(\d\d) (?:, )?#(\d{4})\b", day_first, said)
    return re.sub(r"m(\d\d) [#@](\d+) (?:, )?#(\d{4})\b", month_first, said)


def _without_stray_commas(tokens: list[str]) -> list[str]:
    """Commas stay between the parts of a list."""
    kept = []
    for number, token in enumerate(tokens):
        if token == ",":
            before = tokens[number - 1] if number else ""
            after = tokens[number + 1] if number + 1 < len(tokens) else ""
            if not (_LIST.match(before) and (_LIST.match(after) or after == "and")):
                continue
        kept.append(token)
    return kept


def closest(word: str) -> list[str]:
    """The known words that a mistyped one is closest to, the closest first."""
    return difflib.get_close_matches(word, [known for known in _WORDS if len(known) > 2], 4, 0.66)


def time_of(token: str) -> time:
    return time.fromisoformat(token[1:])


def date_of(token: str) -> date:
    return date.fromisoformat(token[1:])
