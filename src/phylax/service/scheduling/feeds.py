"""Calendar feeds by RFC 5545 and RFC 7986: what comes, what was done, what was called off.

Each time of a round is one event with an identifier that stays, whatever is changed about it, so
that calendars move or strike out what they had shown before.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from itertools import takewhile
from sqlite3 import Connection
from typing import NamedTuple
from uuid import UUID, uuid5

from icalendar import Calendar, Event

from phylax import __version__
from phylax.core.clients.shop import Shop
from phylax.core.ground.quantities import count
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.runs.runs import Run, in_words
from phylax.core.scheduling.agenda import AgendaLine
from phylax.core.scheduling.calendars import Feed
from phylax.service.context.context import the_shop
from phylax.service.scheduling.agenda import agenda
from phylax.service.scheduling.timetable import Timetable
from phylax.store.clients import shop
from phylax.store.runs import runs
from phylax.store.scheduling import rounds

_BACK, _AHEAD = 30 * 86400, 92 * 86400
_SHORTEST = timedelta(minutes=5)


class _Known(NamedTuple):
    version: int
    changed_at: int


def calendar_of(conn: Connection, feed: Feed, *, at: int) -> bytes:
    """A feed's calendar object, as it stands now."""
    current = the_shop(conn)
    ids = _Ids(UUID(hex=shop.uid(conn)))
    client = feed.subject_id if feed.about == "client" else None
    person = feed.subject_id if feed.about == "person" else None
    calendar = Calendar()
    calendar.add("prodid", f"-//Phylax//{__version__}//EN")
    calendar.add("version", "2.0")
    calendar.add("uid", str(ids.of(f"feed/{feed.id}")))
    calendar.add("name", feed.name)
    calendar.add("refresh-interval", timedelta(minutes=30), {"VALUE": "DURATION"})
    changes = {
        change.id: _Known(change.version, change.changed_at) for change in rounds.changes(conn)
    }
    lines = agenda(
        conn, at - _BACK, at + _AHEAD, at=at, client_id=client, responsible_id=person
    ).lines
    for line in lines:
        calendar.add_component(_of_line(ids, line, changes[line.round_id], current, feed))
    announced = {(line.round_id, to_seconds(line.occurs_at)) for line in lines}
    for round_id, name, occurs_at in _called_off(conn, announced, client, person, at):
        title = name if client is None else f"{current.name}: {name}"
        calendar.add_component(
            _called_off_event(ids, round_id, title, occurs_at, changes[round_id])
        )
    if feed.about != "person":
        for run in runs.by_people_since(conn, at - _BACK, client_id=client, limit=500):
            calendar.add_component(_of_run(ids, run))
    return bytes(calendar.to_ical())


class _Ids:
    """Identifiers that are the same whenever the same thing is asked for."""

    def __init__(self, shop_uid: UUID) -> None:
        self._shop = shop_uid
        self._given: set[UUID] = set()

    def of(self, what: str) -> UUID:
        return uuid5(self._shop, what)

    def of_time(self, round_id: int, occurs_at: int, opens_at: int) -> UUID:
        """One time of a round; where closing days split it, each part."""
        identifier = self.of(f"round/{round_id}/{occurs_at}")
        if identifier in self._given:
            identifier = self.of(f"round/{round_id}/{occurs_at}/{opens_at}")
        self._given.add(identifier)
        return identifier


def _event(
    uid: UUID, summary: str, starts: datetime, ends: datetime, known: _Known, *, off: bool = False
) -> Event:
    event = Event()
    changed = from_seconds(known.changed_at)
    event.add("uid", str(uid))
    event.add("summary", summary)
    event.add("dtstart", starts)
    event.add("dtend", max(ends, starts + _SHORTEST))
    # without a METHOD, the stamp is that of the last revision (RFC 5545, 3.8.7.2)
    event.add("dtstamp", changed)
    event.add("last-modified", changed)
    event.add("sequence", known.version)
    event.add("status", "CANCELLED" if off else "CONFIRMED")
    event.add("transp", "TRANSPARENT")
    return event


def _of_line(ids: _Ids, line: AgendaLine, known: _Known, the_shop: Shop, feed: Feed) -> Event:
    occurs, opens = to_seconds(line.occurs_at), to_seconds(line.opens_at)
    if line.states:
        # what became of it is newer than what was planned
        known = known._replace(changed_at=max(known.changed_at, to_seconds(line.ends_at)))
    summary = f"{line.round_name}: {count(line.machines, 'machine')}"
    if feed.about == "client":
        summary = f"{the_shop.name}: {line.round_name}"
    event = _event(
        ids.of_time(line.round_id, occurs, opens), summary, line.opens_at, line.ends_at,
        known, off=line.cancelled,
    )  # fmt: skip
    lines = [f"{line.routine_name}."]
    if line.states:
        lines.append(", ".join(f"{n} {state}" for state, n in sorted(line.states.items())) + ".")
    if feed.about != "client":
        lines += [
            f"{client.client_name}: {count(client.machines, 'machine')}." for client in line.clients
        ]
        lines += [f"{clash}." for clash in line.clashes]
        event.add("location", ", ".join(client.client_name for client in line.clients[:5]))
    if line.note:
        lines.append(f"{line.note}.")
    event.add("description", "\n".join(lines))
    return event


def _called_off(
    conn: Connection,
    announced: set[tuple[int, int]],
    client: int | None,
    person: int | None,
    at: int,
) -> Iterable[tuple[int, str, int]]:
    """Times that a former plan had announced and the present one has not: (round, name, time)."""
    table = Timetable(conn)
    machines = [m for m in shop.described(conn) if m.client_id == client]
    seen: set[tuple[int, int]] = set()
    for former in rounds.formers(conn, since=at - _BACK):
        if person is not None and former.plan.responsible_id != person:
            continue
        if client is not None and not any(former.plan.takes(m) for m in machines):
            continue
        if former.plan.paused:
            continue
        timing = table.timing_of(former.plan, client or 0)
        ahead = takewhile(
            lambda occurrence: occurrence.opens_at < at + _AHEAD, timing.after(former.until_at)
        )
        for occurrence in ahead:
            key = former.round_id, occurrence.occurs_at
            if key not in announced and key not in seen:
                seen.add(key)
                yield former.round_id, former.plan.name, occurrence.occurs_at


def _called_off_event(ids: _Ids, round_id: int, name: str, occurs_at: int, known: _Known) -> Event:
    starts = from_seconds(occurs_at)
    uid = ids.of_time(round_id, occurs_at, occurs_at)
    return _event(uid, name, starts, starts + _SHORTEST, known, off=True)


def _of_run(ids: _Ids, run: Run) -> Event:
    """What a person had done on a machine."""
    assert run.ended_at is not None
    starts = run.started_at or run.ended_at
    event = _event(
        ids.of(f"run/{run.id}"),
        f"{run.machine_tag}: {in_words(run)}",
        starts,
        run.ended_at,
        _Known(1, to_seconds(run.ended_at)),
    )
    event.add("description", f"{run.made_by}; {run.state}.")
    event.add("location", run.client_name)
    return event
