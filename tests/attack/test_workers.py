"""What lies in somebody's folders is looked at and removed with their rights, by a worker that
costs nobody else anything."""

from __future__ import annotations

from pathlib import Path

from engine import rule
from helpers import make_file
from people import ANNA, BEN, PeopleDesk, give

TEMP = {"user-temp": rule(keep_for="P0D")}


def test_each_persons_part_is_done_and_the_sums_are_of_all(desk: PeopleDesk, home: Path) -> None:
    other = desk.home("ben", BEN)
    for folder, uid in ((home, ANNA), (other, BEN)):
        give(make_file(folder / ".tmp/a/one", 5000).parents[1], uid)
        make_file(folder / ".tmp/root's", 100)
    (line,) = desk.look(TEMP)
    assert (line.holds.count, line.goes.count) == (4, 2)
    assert {stay.reason: stay.count for stay in line.stays} == {"somebody else's": 2}
    result = desk.clean(TEMP)
    assert result.error == ""
    (outcome,) = result.outcomes
    assert outcome.removed.count == 2
    assert {stay.reason: stay.count for stay in outcome.left} == {"somebody else's": 2}
    assert (home / ".tmp/root's").exists() and not (home / ".tmp/a/one").exists()
