"""When rounds are due on their machines: zones and closing days of the shop and its clients."""

from __future__ import annotations

from collections.abc import Sequence
from sqlite3 import Connection
from typing import NamedTuple
from zoneinfo import ZoneInfo

from phylax.core.scheduling.rounds import RoundEdit
from phylax.core.scheduling.timing import Closed, Occurrence, Stretch, Timing
from phylax.service.context.context import the_shop
from phylax.store.clients import closing_days, shop
from phylax.store.scheduling import rounds


class _Place(NamedTuple):
    """What of a client matters for when a round runs there."""

    zone: str
    closed: tuple[Closed, ...]


class Timetable:
    """For one transaction: what machines have in common is worked out once."""

    def __init__(self, conn: Connection) -> None:
        self._conn = conn
        self._zone = the_shop(conn).zone
        self._zones = shop.client_zones(conn)
        self._closed = closing_days.by_client(conn)
        self._timings: dict[tuple[int, _Place], Timing] = {}
        self._stretches: dict[tuple[int, _Place, Occurrence], tuple[Stretch, ...]] = {}
        self._next: dict[tuple[int, _Place, int], Occurrence | None] = {}

    def _place(self, plan: RoundEdit, client_id: int) -> _Place:
        own = self._zones.get(client_id) if plan.zone_of == "client" else None
        if plan.on_closing_days == "run":
            return _Place(own or self._zone, ())
        return _Place(own or self._zone, self._closed.get(client_id, self._closed[None]))

    def timing(self, round_id: int, plan: RoundEdit, client_id: int) -> Timing:
        place = self._place(plan, client_id)
        key = round_id, place
        if key not in self._timings:
            self._timings[key] = self.timing_of(plan, client_id)
        return self._timings[key]

    def timing_of(self, plan: RoundEdit, client_id: int) -> Timing:
        """For a plan that is no round's: one that is not saved yet, or no longer holds."""
        place = self._place(plan, client_id)
        return Timing(plan, ZoneInfo(place.zone), place.closed)

    def next(self, round_id: int, plan: RoundEdit, client_id: int, after: int) -> Occurrence | None:
        """A round's first time at a client that opens after a moment."""
        key = round_id, self._place(plan, client_id), after
        if key not in self._next:
            timing = self.timing(round_id, plan, client_id)
            self._next[key] = None if plan.paused else next(timing.after(after), None)
        return self._next[key]

    def next_times(
        self, round_id: int, plan: RoundEdit, machines: Sequence[tuple[int, int]], after: int
    ) -> list[tuple[int, int | None, int | None]]:
        """(machine, next_at, occurs_at) for (machine, client)."""
        times: list[tuple[int, int | None, int | None]] = []
        for machine_id, client_id in machines:
            occurrence = self.next(round_id, plan, client_id, after)
            times.append(
                (machine_id, occurrence.opens_at, occurrence.occurs_at)
                if occurrence
                else (machine_id, None, None)
            )
        return times

    def stretches(
        self, round_id: int, plan: RoundEdit, client_id: int, occurrence: Occurrence
    ) -> tuple[Stretch, ...]:
        key = round_id, self._place(plan, client_id), occurrence
        if key not in self._stretches:
            self._stretches[key] = self.timing(round_id, plan, client_id).stretches(occurrence)
        return self._stretches[key]


def place_round(conn: Connection, round_id: int, plan: RoundEdit, *, at: int) -> int:
    """Find a round's machines anew, and its next time on each; how many there are."""
    chosen = [(m.id, m.client_id) for m in shop.described(conn) if plan.takes(m)]
    times = Timetable(conn).next_times(round_id, plan, chosen, at)
    rounds.put_members(conn, round_id, times)
    return len(chosen)


def place_machine(conn: Connection, machine_id: int, *, at: int) -> None:
    """A machine was taken in or changed: it joins and leaves rounds accordingly."""
    described = shop.described(conn, machine_id)
    if not described:
        return
    (machine,) = described
    table = Timetable(conn)
    for round_ in rounds.rounds(conn, after=0, limit=100_000):
        known = rounds.member(conn, round_.id, machine_id)
        if not round_.plan.takes(machine):
            rounds.drop_member(conn, round_.id, machine_id)
        elif known is None or known.client_id != machine.client_id:
            rounds.drop_member(conn, round_.id, machine_id)
            for time in table.next_times(
                round_.id, round_.plan, [(machine_id, machine.client_id)], at
            ):
                rounds.put_member(conn, round_.id, *time)


def place_all(conn: Connection, *, at: int) -> None:
    """Zones or closing days have changed: every round's next times are found anew."""
    table = Timetable(conn)
    for round_ in rounds.rounds(conn, after=0, limit=100_000):
        chosen = [(m.machine_id, m.client_id) for m in rounds.members(conn, round_.id)]
        times = table.next_times(round_.id, round_.plan, chosen, at)
        rounds.set_next(conn, [(round_.id, *time) for time in times])
