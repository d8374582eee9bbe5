"""How often, in plain words: what each phrase means, and what is said where it means nothing."""

import random
from datetime import date, time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from phylax.core.scheduling.plain_words import EXAMPLES, LONGEST, from_words, read_words
from phylax.core.scheduling.recurrence import how_often
from phylax.core.scheduling.rounds import RoundEdit

_WORKING = "MO,TU,WE,TH,FR"
MEANT = {
    "FREQ=DAILY": "every day|daily|Daily|each day|EVERY DAY|everyday|nightly|every night|all days",
    "FREQ=DAILY;INTERVAL=2": "every 2 days|every two days|every other day|every second day",
    "FREQ=DAILY;INTERVAL=3": "every third day|every 3rd day|once every 3 days",
    "FREQ=DAILY;INTERVAL=10": "every 10 days|every ten days",
    "FREQ=WEEKLY": "weekly|every week|each week|once a week|once every week",
    "FREQ=WEEKLY;INTERVAL=2": "fortnightly|every fortnight|every 2 weeks|every two weeks|"
    "every other week|every second week|once a fortnight|every 2 wks",
    "FREQ=WEEKLY;INTERVAL=6": "every six weeks|every 6 weeks",
    "FREQ=WEEKLY;BYDAY=SA": "sat|saturday|Saturdays|on saturdays|every sat",
    "FREQ=WEEKLY;BYDAY=TU": "tues|every Tuesday|each tuesday|on tue|weekly on Tuesday|"
    "weekly, on tuesday|once a week on Tuesdays|every week on tuesday|Tuesday weekly|"
    "every tuesday.|  every   tuesday ",
    "FREQ=WEEKLY;BYDAY=MO,TH": "Mondays & Thursdays|mon/thu|every monday and every thursday|"
    "monday, thursday|weekly on mon and thurs|mondays and thursdays",
    "FREQ=WEEKLY;BYDAY=MO,WE,FR": "monday, wednesday, friday|monday, wednesday, and friday|"
    "monday wednesday friday|every mon, wed and fri",
    f"FREQ=WEEKLY;BYDAY={_WORKING}": "weekdays|every weekday|every working day|workdays|"
    "business days|monday to friday|mon-fri|mon–fri|Monday through Friday|from monday to friday|"
    "every day except weekends|daily but not on weekends|every day except saturday and sunday",
    "FREQ=WEEKLY;BYDAY=SA,SU": "weekends|every weekend|on the weekend|sat and sun",
    "FREQ=WEEKLY;BYDAY=MO,SA,SU": "sat to mon|weekends and mondays",
    "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR,SA": "every day except sunday|daily except sundays|"
    "monday to saturday",
    "FREQ=WEEKLY;BYDAY=MO,TU,TH,FR": "every weekday except wed|monday to friday, not wednesday",
    "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR": "every other friday|alternate fridays|"
    "every 2 weeks on friday|every other week on friday|fortnightly on fridays|"
    "friday every 2 weeks|every two fridays",
    "FREQ=WEEKLY;INTERVAL=3;BYDAY=TU,TH": "every 3 weeks on tuesday and thursday",
    "FREQ=MONTHLY": "monthly|every month|each month|once a month",
    "FREQ=MONTHLY;INTERVAL=2": "every 2 months|every other month|every second month",
    "FREQ=MONTHLY;INTERVAL=3": "every 3 months|every three months|quarterly|every quarter|"
    "once a quarter",
    "FREQ=MONTHLY;INTERVAL=6": "half-yearly|every six months|every half year|semi-annually",
    "FREQ=MONTHLY;BYMONTHDAY=1": "first of the month|the 1st of every month|monthly on the 1st|"
    "first day of the month|start of the month|every 1st|on the 1st of each month",
    "FREQ=MONTHLY;BYMONTHDAY=15": "the 15th|every 15th|on day 15 of the month|"
    "every month on the 15th|15th of each month",
    "FREQ=MONTHLY;BYMONTHDAY=1,15": "1st and 15th|the 1st & 15th of every month|"
    "monthly on the 1st and 15th|on the 1 and 15 of every month|days 1 and 15",
    "FREQ=MONTHLY;BYMONTHDAY=3": "every third day of the month|the 3rd of every month",
    "FREQ=MONTHLY;BYMONTHDAY=-1": "last day of the month|the last day of every month|month end|"
    "end of the month|end of every month|every month on the last day|last of the month",
    "FREQ=MONTHLY;BYMONTHDAY=15,-1": "the 15th and the last day of every month",
    "FREQ=MONTHLY;BYMONTHDAY=31": "31st of every month",
    "FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1": "quarterly on the 1st|every 3 months on the 1st",
    "FREQ=MONTHLY;BYDAY=1MO": "every first Monday|first monday of the month|1st mon of each month|"
    "the first Monday of every month|every month on the first Monday|monthly on the first monday",
    "FREQ=MONTHLY;BYDAY=2TU": "2nd tuesday of the month|second tuesday|second tuesday monthly",
    "FREQ=MONTHLY;BYDAY=1MO,3MO": "first and third monday of the month",
    "FREQ=MONTHLY;BYDAY=5FR": "fifth friday of the month",
    "FREQ=MONTHLY;BYDAY=-1FR": "last friday|every last friday|the last friday of every month",
    "FREQ=MONTHLY;BYDAY=-2FR": "second-to-last friday of the month|penultimate friday|"
    "last but one friday of the month",
    "FREQ=MONTHLY;INTERVAL=2;BYDAY=2TU": "second tuesday of every other month",
    f"FREQ=MONTHLY;BYDAY={_WORKING};BYSETPOS=1": "first working day of the month|"
    "1st business day of each month|the first weekday of every month",
    f"FREQ=MONTHLY;BYDAY={_WORKING};BYSETPOS=-1": "last weekday of the month|last workday monthly",
    f"FREQ=MONTHLY;INTERVAL=3;BYDAY={_WORKING};BYSETPOS=1":
    "every 3 months on the first working day|quarterly on the first working day",
    "FREQ=YEARLY": "yearly|annually|every year|once a year",
    "FREQ=YEARLY;INTERVAL=2": "every 2 years|every other year",
    "FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=25": "25 december|december 25th|Dec 25|the 25th of december|"
    "every year on 25 December|yearly on december 25|every 25 dec",
    "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29": "29 february",
    "FREQ=YEARLY;BYMONTH=3,9;BYMONTHDAY=1": "1 march and 1 september|1st of march and september",
    "FREQ=YEARLY;BYMONTH=3,9;BYDAY=1MO": "first monday in march and september",
    "FREQ=YEARLY;BYMONTH=1,4,7,10;BYDAY=1MO": "first monday of every quarter",
    "FREQ=YEARLY;BYMONTH=3,6,9,12;BYMONTHDAY=-1": "last day of the quarter|end of the quarter",
    "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=-1": "the last day of february",
    "FREQ=WEEKLY;BYDAY=TU;COUNT=5": "every tuesday, 5 times|every tuesday 5 times|"
    "every Tuesday for 5 times",
    "FREQ=WEEKLY;BYDAY=TU;UNTIL=20270630": "every tuesday until 2027-06-30|"
    "every tuesday, till 30 june 2027|every tuesday until June 30, 2027",
}  # fmt: skip
TIMES = {
    "first monday of the month at 7pm": ("FREQ=MONTHLY;BYDAY=1MO", "19:00"),
    "7pm every friday": ("FREQ=WEEKLY;BYDAY=FR", "19:00"),
    "Every Friday, 7 p.m.": ("FREQ=WEEKLY;BYDAY=FR", "19:00"),
    "mon-fri at 18:30": (f"FREQ=WEEKLY;BYDAY={_WORKING}", "18:30"),
    "every day 18.30": ("FREQ=DAILY", "18:30"),
    "every day at noon": ("FREQ=DAILY", "12:00"),
    "at midnight every saturday": ("FREQ=WEEKLY;BYDAY=SA", "00:00"),
    "weekdays at 12:15am, 10 times": (f"FREQ=WEEKLY;BYDAY={_WORKING};COUNT=10", "00:15"),
    "every monday at 12pm": ("FREQ=WEEKLY;BYDAY=MO", "12:00"),
    "every monday between 18:00 and 23:00": ("FREQ=WEEKLY;BYDAY=MO", "18:00 to 23:00"),
    "every monday from 6pm to 9pm": ("FREQ=WEEKLY;BYDAY=MO", "18:00 to 21:00"),
    "every monday 18:30-06:00": ("FREQ=WEEKLY;BYDAY=MO", "18:30 to 06:00"),
}
REFUSED = {
    "": "say it as in",
    "now and then": "not understood",
    "sometimes": "does not say how often",
    "every": "did you mean",
    "once": "does not recur",
    "tomorrow at 18:30": "does not recur",
    "hourly": "at most once a day",
    "every 72 hours": "say days, as in 'every 3 days'",
    "twice a day": "at most once a day",
    "twice a week": "every Monday and Thursday",
    "3 times a month": "the 1st and 15th of every month",
    "twice a year": "every 6 months",
    "biweekly": "'every 2 weeks' or 'every Monday and Thursday'",
    "bi-weekly": "'every 2 weeks' or 'every Monday and Thursday'",
    "bimonthly": "'every 2 months' or 'the 1st and 15th of every month'",
    "every second tuesday": "'every 2 weeks on Tuesday' or 'the 2nd Tuesday of every month'",
    "every 3rd friday at 18:30": "'every 3 weeks on Friday' or 'the 3rd Friday of every month'",
    "every fifth friday": "'every 5 weeks on Friday' or 'the 5th Friday of every month'",
    "every second working day": "'the 2nd working day of every month' or 'every 2 days'",
    "every 2nd": "'the 2nd of every month' or 'every 2 days'",
    "first weekend of the month": "the first Saturday of every month",
    "first week of the month": "the first Monday of every month",
    "every month on monday": "every 3 months on the first Monday",
    "every march": "the first Monday of March",
    "every evening": "say a time of day",
    "every monday morning": "say a time of day",
    "easter monday": "say a date",
    "every monday at 7": "'at 07:00' or 'at 19:00'",
    "every monday at 7 o'clock": "'at 07:00' or 'at 19:00'",
    "every monday at 1900": "as in 'at 18:30'",
    "every monday at 25:00": "not a time of day",
    "every monday at 13pm": "not a time of day",
    "every monday at 9:00 and 17:00": "make one for each",
    "31 february": "February has no 31st",
    "30 feb": "February has no 30th",
    "the 31st of june": "say 'the last day of June'",
    "31st of june and july": "June has no 31st",
    "every 32nd": "no month has a day 32",
    "32 march": "no month has a day 32|March has no 32nd",
    "the 0th of every month": "no month has a day 0",
    "1 march and 15 september": "make a round for each",
    "sixth monday of the month": "first to fifth",
    "every 0 days": "every 0 would be never",
    "every zero weeks": "every 0 would be never",
    "every -1 days": "not understood",
    "every 2.5 days": "whole number",
    "every 2000 days": "1000 at the longest",
    "every 400 quarters": "not understood",
    "every tuesday, 0 times": "1 to 10000 times",
    "every tuesday until 30 june": "a whole date",
    "every tuesday for 3 weeks": "a whole date",
    "every tuesday until 2027-02-30": "no day of the calendar",
    "every tuesday from 4 january": "not understood|say it as in",
    "every sunday except sunday": "no day over",
    "every month except sunday": "no day over",
    "evrey tuesday": "did you mean 'every Tuesday'",
    "every teusday": "did you mean 'every Tuesday'",
    "every wendsday": "did you mean 'every Wednesday'",
    "frist monday of the month": "did you mean 'every month on the first Monday'",
    "every thrusday and fridya": "did you mean 'every Thursday and Friday'",
    "montly on the 1st": "did you mean 'every month on the 1st'",
    "every full moon": "'full'",
    "every tuesday; drop table rounds": "not understood",
    "jeden Dienstag": "not understood",
}


@pytest.mark.parametrize(
    ("phrase", "rule"),
    [(phrase, rule) for rule, phrases in MEANT.items() for phrase in phrases.split("|")],
)
def test_what_a_phrase_means(phrase: str, rule: str) -> None:
    assert from_words(phrase) == rule


def test_the_table_is_long_enough_to_count() -> None:
    phrases = [phrase for phrases in MEANT.values() for phrase in phrases.split("|")]
    assert len({*phrases, *TIMES, *REFUSED}) >= 200


@pytest.mark.parametrize(("phrase", "rule", "times"), [(p, *said) for p, said in TIMES.items()])
def test_a_time_in_the_words_is_read(phrase: str, rule: str, times: str) -> None:
    spoken = read_words(phrase)
    closes = f" to {spoken.closes:%H:%M}" if spoken.closes else ""
    assert (spoken.rule, f"{spoken.at:%H:%M}{closes}") == (rule, times)


@pytest.mark.parametrize(("phrase", "said"), REFUSED.items())
def test_what_means_nothing_or_two_things_is_refused_with_what_to_say(
    phrase: str, said: str
) -> None:
    with pytest.raises(ValueError, match=said):
        read_words(phrase)


@pytest.mark.parametrize("rule", MEANT)
def test_what_is_shown_of_a_rule_means_that_rule(rule: str) -> None:
    """Whoever copies what the shop shows gets the same dates, and the same time."""
    shown = how_often(rule, time(18, 30))
    assert (read_words(shown).rule, read_words(shown).at) == (rule, time(18, 30))


@pytest.mark.parametrize("example", EXAMPLES)
def test_every_phrase_that_is_suggested_is_understood(example: str) -> None:
    assert from_words(example)


@given(st.text(max_size=60))
def test_anything_is_read_or_refused(text: str) -> None:
    try:
        read_words(text)
    except ValueError as error:
        assert str(error)


@given(st.integers(), st.lists(st.sampled_from(sorted({
    word for phrases in (*MEANT.values(), *TIMES, *REFUSED) for word in phrases.split()
})), min_size=1, max_size=7))  # fmt: skip
def test_known_words_in_any_order_lose_no_number(seed: int, words: list[str]) -> None:
    """Nothing that was said is dropped: of each number and time something is seen afterwards."""
    random.Random(seed).shuffle(words)
    try:
        spoken = read_words(" ".join(words))
    except ValueError:
        return
    named = {word for word in words if word.isdigit() and int(word) > 1}
    shown = f"{spoken.rule} {spoken.at} {spoken.closes} {spoken.starts_on}"
    assert all(number.lstrip("0") in shown for number in named)


def test_long_texts_are_refused_at_once() -> None:
    with pytest.raises(ValueError, match=str(LONGEST)):
        read_words("monday and " * 20_000)


def _edit(**fields: object) -> RoundEdit:
    plan = {"name": "Evening", "routine_id": 1, "starts_on": "2026-03-02", "machine_ids": [1]}
    return RoundEdit.model_validate(plan | fields)


def test_a_round_takes_its_window_and_first_day_from_the_words() -> None:
    plan = {"name": "Evening", "routine_id": 1, "machine_ids": [1]}
    words = "first monday of the month from 7pm to 11pm, starting 4 January 2027"
    edit = RoundEdit.model_validate(plan | {"recurrence": words})
    assert edit.recurrence == "FREQ=MONTHLY;BYDAY=1MO"
    assert (edit.at, edit.closes, edit.starts_on) == (time(19), time(23), date(2027, 1, 4))


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        ({"recurrence": "every day at 7pm", "at": "18:30"}, "the words say 19:00, 'at' says 18:30"),
        ({"recurrence": "every day from 7pm to 9pm", "at": "19:00", "closes": "22:00"},
         "the words say 21:00, 'closes' says 22:00"),
        ({"recurrence": "every day starting 2027-01-04", "at": "19:00"},
         "the words say 2027-01-04, 'starts_on' says 2026-03-02"),
        ({"recurrence": "evrey day", "at": "19:00"}, "did you mean 'every day'"),
    ],
)  # fmt: skip
def test_words_and_fields_that_say_different_things_are_refused(
    fields: dict[str, str], said: str
) -> None:
    with pytest.raises(ValueError, match=said):
        _edit(**fields)


def test_words_and_fields_that_say_the_same_are_taken() -> None:
    assert _edit(recurrence="every day at 7pm", at="19:00:00").at == time(19)
