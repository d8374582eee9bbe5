"""Calendar feeds, read by an independent reader: what comes, what was done, what was called off."""

from __future__ import annotations

import json
import subprocess
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest

from conftest import Service
from helpers import TUESDAY, Clock, enrol, make_file, make_standin
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, ClosingDaysEdit, Machine, MachineEdit
from phylax.core.scheduling.calendars import FeedEdit, FeedShown
from phylax.service.rounds import scheduler

CONSOLE = Path(__file__).parents[2] / "console"
DUE = datetime(2026, 3, 3, 18, 30, tzinfo=UTC)


def address(owner: Phylax, feed: FeedShown) -> str:
    return f"{owner.url}{feed.path}"


def read(owner: Phylax, feed: FeedShown) -> dict[str, Any]:
    answer = httpx.get(address(owner, feed), timeout=60)
    assert answer.status_code == 200
    assert answer.headers["content-type"].startswith("text/calendar")
    told = subprocess.run(
        ["node", Path(__file__).parent / "read_calendar.mjs", CONSOLE / "package.json"],
        input=answer.text, capture_output=True, text=True, check=True, timeout=60,
    )  # fmt: skip
    found: dict[str, Any] = json.loads(told.stdout)
    assert found["version"] == "2.0" and found["longest"] <= 75 and not found["bare"]
    ids = [event["uid"] for event in found["events"]]
    assert len(set(ids)) == len(ids)
    return found


def by_day(found: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {event["starts"][:10]: event for event in found["events"]}


@pytest.fixture
def feed(owner: Phylax) -> FeedShown:
    return owner.calendars.add(FeedEdit(name="Rounds of the shop"))


def test_the_coming_rounds_are_events_with_identifiers_that_stay(
    owner: Phylax, machine: Machine, feed: FeedShown
) -> None:
    owner.rounds.add(TUESDAY)
    found = read(owner, feed)
    assert (found["name"], len(found["events"])) == ("Rounds of the shop", 13)
    first = by_day(found)["2026-03-03"]
    assert first["summary"] == "Tuesdays: 1 machine" and first["status"] == "CONFIRMED"
    assert (first["starts"], first["zone"]) == ("2026-03-03T18:30:00.000Z", "UTC")
    assert first["location"] == "Skerry Ferry Office"
    # after 29 March Dublin is an hour ahead
    assert by_day(found)["2026-03-31"]["starts"] == "2026-03-31T17:30:00.000Z"
    assert read(owner, feed)["events"] == found["events"]


def test_what_is_moved_keeps_its_identifier_and_what_is_gone_is_called_off(
    owner: Phylax, machine: Machine, feed: FeedShown, clock: Clock
) -> None:
    made = owner.rounds.add(TUESDAY)
    before = by_day(read(owner, feed))
    owner.closing_days.add(
        ClosingDaysEdit(first=date(2026, 3, 10), last=date(2026, 3, 10), name="Fair")
    )
    clock.pass_(timedelta(hours=1))
    moved = by_day(read(owner, feed))
    assert moved["2026-03-11"]["uid"] == before["2026-03-10"]["uid"]
    later = TUESDAY.model_copy(update={"recurrence": "FREQ=WEEKLY;BYDAY=WE"})
    owner.rounds.change(made, later)
    changed = read(owner, feed)
    off = {e["uid"] for e in changed["events"] if e["status"] == "CANCELLED"}
    assert off == {event["uid"] for event in before.values()}
    assert {e["sequence"] for e in changed["events"]} == {2}
    owner.rounds.end(made.id)
    ended = read(owner, feed)["events"]
    assert ended and {event["status"] for event in ended} == {"CANCELLED"}


def test_a_skipped_time_is_called_off_where_no_machine_is_left(
    owner: Phylax, machine: Machine, feed: FeedShown
) -> None:
    client = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    yard = owner.machines.add(MachineEdit(tag="yard", client_id=client.id, system="linux"))
    made = owner.rounds.add(TUESDAY.model_copy(update={"machine_ids": (machine.id, yard.id)}))
    theirs = FeedEdit(name="Yard", about="client", subject_id=client.id)
    at_yard = owner.calendars.add(theirs)

    def status(of: FeedShown) -> str:
        return str(by_day(read(owner, of))["2026-03-03"]["status"])

    owner.rounds.skip(made.id, machine.id, "exams")
    assert (status(feed), status(at_yard)) == ("CONFIRMED", "CONFIRMED")
    owner.rounds.skip(made.id, yard.id)
    assert (status(feed), status(at_yard)) == ("CANCELLED", "CANCELLED")


def test_what_was_done_stays_in_the_calendar(
    owner: Phylax, service: Service, machine: Machine, feed: FeedShown, clock: Clock, tmp_path: Path
) -> None:
    home = make_standin(tmp_path / "m")
    make_file(home / ".tmp/old", days_old=3)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rounds.add(TUESDAY)
    clock.now = DUE
    scheduler.tick(service.context)
    agent.once()
    owner.runs.clean(machine.tag, ["user-temp"])
    agent.once()
    clock.now = DUE + timedelta(days=1)
    events = read(owner, feed)["events"]
    (by_hand,) = [e for e in events if e["summary"] == "ferry-desk: cleaning"]
    assert by_hand["description"] == "Ines Marrow; done."


def test_a_person_and_a_client_see_their_own(
    owner: Phylax, machine: Machine, feed: FeedShown
) -> None:
    other = owner.clients.add(ClientEdit(name="Kelpie Boatyard"))
    yard = owner.machines.add(MachineEdit(tag="yard", client_id=other.id, system="linux"))
    wren = next(one for one in owner.people.list() if one.login == "wren")
    both = {"machine_ids": (machine.id, yard.id), "responsible_id": wren.id}
    owner.rounds.add(TUESDAY.model_copy(update=both))
    owner.rounds.add(TUESDAY.model_copy(update={"name": "Mine"}))
    hers = owner.calendars.add(FeedEdit(name="Wren", about="person", subject_id=wren.id))
    theirs = owner.calendars.add(FeedEdit(name="Yard", about="client", subject_id=other.id))
    assert {e["summary"] for e in read(owner, hers)["events"]} == {"Tuesdays: 2 machines"}
    of_client = read(owner, theirs)["events"]
    assert {e["summary"] for e in of_client} == {"Quayside: Tuesdays"}
    assert not any("ferry" in json.dumps(e).lower() for e in of_client), "nobody else's business"
    for one in owner.rounds.list():
        owner.rounds.end(one.id)
    off = read(owner, theirs)["events"]
    assert [e["uid"] for e in off] == [e["uid"] for e in of_client]
    assert {(e["summary"], e["status"]) for e in off} == {("Quayside: Tuesdays", "CANCELLED")}


def test_an_address_is_private_answers_shortly_when_nothing_changed_and_can_be_withdrawn(
    owner: Phylax, machine: Machine, feed: FeedShown, service: Service
) -> None:
    owner.rounds.add(TUESDAY)
    first = httpx.get(address(owner, feed), timeout=60)
    assert first.headers["cache-control"] == "private, no-cache"
    same = httpx.get(address(owner, feed), headers={"If-None-Match": first.headers["etag"]})
    assert (same.status_code, same.content) == (304, b"")
    (listed,) = owner.calendars.list()
    assert listed.read_at is not None and not hasattr(listed, "path")
    assert httpx.get(address(owner, feed).replace("calendar_", "calendar-")).status_code == 404
    secret = feed.path.encode()[10:-4]
    assert all(secret not in path.read_bytes() for path in service.context.db.path.parent.iterdir())
    owner.calendars.withdraw(feed.id)
    assert httpx.get(address(owner, feed)).status_code == 404
    assert owner.calendars.list() == []
    with pytest.raises(RefusedError, match="no client 9"):
        owner.calendars.add(FeedEdit(name="x", about="client", subject_id=9))
    with service.as_("petra") as desk, pytest.raises(RefusedError):
        desk.calendars.add(FeedEdit(name="x"))
