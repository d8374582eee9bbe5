"""Recurrence agrees with RFC 5545's own examples and with an independent implementation."""

import json
import subprocess
from datetime import UTC, date, datetime, time, timedelta
from itertools import islice, takewhile
from pathlib import Path
from random import Random
from zoneinfo import ZoneInfo

import pytest

from phylax.core.scheduling.recurrence import checked_rule, next_dates, occurrences

CONSOLE = Path(__file__).parents[2] / "console"
NEW_YORK = ZoneInfo("America/New_York")
ZONES = (
    "Europe/Dublin", "America/New_York", "Australia/Lord_Howe", "America/Santiago",
    "Asia/Kathmandu", "Africa/Casablanca", "Pacific/Apia",
)  # fmt: skip
RULES = 1000
BEGINNING = datetime(1990, 1, 1, tzinfo=UTC)
MOST = 300
_DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")

# --- the examples of RFC 5545, section 3.8.5.3 --------------------------------------------------


def span(first: str, last: str, step: int = 1) -> list[str]:
    begin, end = date.fromisoformat(first), date.fromisoformat(last)
    return [str(begin + timedelta(days=n)) for n in range(0, (end - begin).days + 1, step)]


def days(year: int, *parts: str) -> list[str]:
    """``days(1997, "09 02 09")`` is the 2nd and the 9th of September 1997."""
    return [f"{year}-{part.split()[0]}-{day}" for part in parts for day in part.split()[1:]]


FROM_SEPTEMBER_2 = [
    ("FREQ=DAILY;COUNT=10", span("1997-09-02", "1997-09-11")),
    ("FREQ=DAILY;UNTIL=19971224T000000Z", span("1997-09-02", "1997-12-23")),
    ("FREQ=DAILY;INTERVAL=2", span("1997-09-02", "1997-12-03", 2)),
    ("FREQ=DAILY;INTERVAL=10;COUNT=5", span("1997-09-02", "1997-10-12", 10)),
    ("FREQ=WEEKLY;COUNT=10", span("1997-09-02", "1997-11-04", 7)),
    ("FREQ=WEEKLY;UNTIL=19971224T000000Z", span("1997-09-02", "1997-12-23", 7)),
    ("FREQ=WEEKLY;INTERVAL=2;WKST=SU", span("1997-09-02", "1998-02-17", 14)),
    ("FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH",
     days(1997, "09 02 04 09 11 16 18 23 25 30", "10 02")),
    ("FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH",
     days(1997, "09 02 04 09 11 16 18 23 25 30", "10 02")),
    ("FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH",
     days(1997, "09 02 04 16 18 30", "10 02 14 16")),
    ("FREQ=MONTHLY;BYMONTHDAY=-3",
     days(1997, "09 28", "10 29", "11 28", "12 29") + days(1998, "01 29", "02 26")),
    ("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15",
     days(1997, "09 02 15", "10 02 15", "11 02 15", "12 02 15") + days(1998, "01 02 15")),
    ("FREQ=MONTHLY;INTERVAL=2;BYDAY=TU",
     days(1997, "09 02 09 16 23 30", "11 04 11 18 25") + days(1998, "01 06 13 20 27",
                                                             "03 03 10 17 24 31")),
    ("FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13",
     days(1998, "02 13", "03 13", "11 13") + days(1999, "08 13") + days(2000, "10 13")),
    ("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2",
     days(1997, "09 29", "10 30", "11 27", "12 30") + days(1998, "01 29", "02 26", "03 30")),
]  # fmt: skip
FROM_ELSEWHERE = [
    ("1996-11-05", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8",
     ["1996-11-05", "2000-11-07", "2004-11-02"]),
    ("1998-01-01", "FREQ=YEARLY;UNTIL=20000131T140000Z;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA",
     span("1998-01-01", "1998-01-31") + span("1999-01-01", "1999-01-31")
     + span("2000-01-01", "2000-01-31")),
    ("1997-09-01", "FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000Z;WKST=SU;BYDAY=MO,WE,FR",
     days(1997, "09 01 03 05 15 17 19 29", "10 01 03 13 15 17 27 29 31", "11 10 12 14 24 26 28",
          "12 08 10 12 22")),
    ("1997-09-05", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR",
     days(1997, "09 05", "10 03", "11 07", "12 05")
     + days(1998, "01 02", "02 06", "03 06", "04 03", "05 01", "06 05")),
    ("1997-09-05", "FREQ=MONTHLY;UNTIL=19971224T000000Z;BYDAY=1FR",
     days(1997, "09 05", "10 03", "11 07", "12 05")),
    ("1997-09-07", "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU",
     days(1997, "09 07 28", "11 02 30") + days(1998, "01 04 25", "03 01 29", "05 03 31")),
    ("1997-09-22", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO",
     days(1997, "09 22", "10 20", "11 17", "12 22") + days(1998, "01 19", "02 16")),
    ("1997-09-30", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1",
     days(1997, "09 30", "10 01 31", "11 01 30", "12 01 31") + days(1998, "01 01 31", "02 01")),
    ("1997-09-10", "FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15",
     days(1997, "09 10 11 12 13 14 15") + days(1999, "03 10 11 12 13")),
    ("1997-06-10", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7",
     [f"{y}-{m}-10" for y in range(1997, 2002) for m in ("06", "07")]),
    ("1997-03-10", "FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3",
     ["1997-03-10", *(f"{y}-{m}-10" for y in (1999, 2001, 2003) for m in ("01", "02", "03"))]),
    ("1997-05-19", "FREQ=YEARLY;BYDAY=20MO", ["1997-05-19", "1998-05-18", "1999-05-17"]),
    ("1997-03-13", "FREQ=YEARLY;BYMONTH=3;BYDAY=TH",
     days(1997, "03 13 20 27") + days(1998, "03 05 12 19 26") + days(1999, "03 04 11 18 25")),
    ("1997-06-05", "FREQ=YEARLY;BYDAY=TH;BYMONTH=6,7,8",
     days(1997, "06 05 12 19 26", "07 03 10 17 24 31", "08 07 14 21 28")),
    ("1997-09-13", "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13",
     days(1997, "09 13", "10 11", "11 08", "12 13") + days(1998, "01 10", "02 07", "03 07")),
    ("1997-09-04", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3",
     days(1997, "09 04", "10 07", "11 06")),
    ("1997-08-05", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO",
     days(1997, "08 05 10 19 24")),
    ("1997-08-05", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU",
     days(1997, "08 05 17 19 31")),
    ("2007-01-15", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5",
     days(2007, "01 15 30", "02 15", "03 15 30")),
]  # fmt: skip


@pytest.mark.parametrize(
    ("start", "rule", "wanted"),
    [*(("1997-09-02", *one) for one in FROM_SEPTEMBER_2), *FROM_ELSEWHERE],
)
def test_the_rfcs_own_examples(start: str, rule: str, wanted: list[str]) -> None:
    begin = date.fromisoformat(start)
    endless = "COUNT" not in rule and "UNTIL" not in rule
    found = occurrences(checked_rule(rule), begin, time(9), NEW_YORK, after=BEGINNING)
    local = [at.astimezone(NEW_YORK) for at in islice(found, len(wanted) + (not endless))]
    assert [str(at.date()) for at in local] == wanted
    assert {at.time() for at in local} == {time(9)}


# --- an independent implementation --------------------------------------------------------------


def some(random: Random, values: list, most: int = 3) -> str:
    return ",".join(map(str, random.sample(values, random.randint(1, min(most, len(values))))))


def a_rule(random: Random) -> str:
    frequency = random.choice(["DAILY", "WEEKLY", "MONTHLY", "YEARLY"])
    parts = {"FREQ": frequency}
    if random.random() < 0.5:
        parts["INTERVAL"] = str(random.choice([1, 2, 3, 4, 6, 13]))
    places = [*range(1, 6), -1, -2]
    if random.random() < 0.6:
        named = list(_DAYS)
        if frequency in ("MONTHLY", "YEARLY") and random.random() < 0.5:
            named = [f"{random.choice(places)}{day}" for day in _DAYS]
        parts["BYDAY"] = some(random, named)
    if frequency != "WEEKLY" and random.random() < 0.3:
        parts["BYMONTHDAY"] = some(random, [*range(1, 32), -1, -2, -10])
    if frequency == "YEARLY" or random.random() < 0.2:
        parts["BYMONTH"] = some(random, list(range(1, 13)))
    # the other one cuts the first week at its start before it counts places in it
    if frequency != "WEEKLY" and {"BYDAY", "BYMONTHDAY"} & parts.keys() and random.random() < 0.3:
        # the other one counts twice what two places name; RFC 5545 speaks of a set
        parts["BYSETPOS"] = some(random, random.choice([[1, 2], [-1]]), 2)
    if random.random() < 0.2:
        parts["WKST"] = random.choice(_DAYS)
    if random.random() < 0.2:
        parts["COUNT"] = str(random.randint(1, 60))
    return ";".join(f"{name}={value}" for name, value in parts.items())


def test_a_thousand_rules_agree_with_an_independent_implementation() -> None:
    random = Random(5545)
    asked = []
    while len(asked) < RULES:
        # the hours at which clocks change are tried more often than others
        at = time(random.choice([0, 1, 1, 2, 2, 3, 9, 18, 23]), random.choice([0, 15, 30, 45]))
        start = datetime.combine(date(2015, 1, 1) + timedelta(days=random.randrange(1500)), at)
        rule, zone = checked_rule(a_rule(random)), random.choice(ZONES)
        # what never comes true keeps the other one searching until the year 9999
        if next_dates(rule, start.date(), at, ZoneInfo(zone), after=BEGINNING, most=1):
            asked.append((rule, start, zone))
    ends = [int(start.replace(tzinfo=UTC).timestamp()) + 3653 * 86400 for _, start, _ in asked]
    told = json.dumps(
        [
            {"rule": rule, "start": f"{start:%Y%m%dT%H%M%S}", "zone": zone, "until": end,
             "most": MOST}
            for (rule, start, zone), end in zip(asked, ends, strict=True)
        ]
    )  # fmt: skip
    answered = subprocess.run(
        ["node", Path(__file__).parent / "expand.mjs", CONSOLE / "package.json"],
        input=told, capture_output=True, text=True, check=True, timeout=300,
    )  # fmt: skip
    counted = 0
    for (rule, start, zone), end, theirs in zip(
        asked, ends, json.loads(answered.stdout), strict=True
    ):
        found = occurrences(
            rule, start.date(), start.time(), ZoneInfo(zone),
            after=start.replace(tzinfo=UTC) - timedelta(days=2),
        )  # fmt: skip
        moments = (int(at.timestamp()) for at in found)
        ours = list(islice(takewhile(lambda at, end=end: at <= end, moments), MOST))
        assert ours == theirs, (rule, start, zone)
        counted += len(ours)
    assert counted > 100 * RULES
