"""The agenda over a span: what was made from the runs, what comes from the rounds' plans."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from datetime import timedelta
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.values import from_seconds
from phylax.core.scheduling.agenda import Agenda, AgendaClient, AgendaLine, site_takes, with_clashes
from phylax.core.scheduling.rounds import Round
from phylax.core.scheduling.timing import Timing
from phylax.service.context.context import the_shop
from phylax.service.scheduling.timetable import Timetable
from phylax.store.clients import shop
from phylax.store.runs import occurrences
from phylax.store.scheduling import rounds, routines

_EVERY_ROUND = 100_000


def agenda(
    conn: Connection,
    begin: int,
    end: int,
    *,
    at: int,
    client_id: int | None = None,
    responsible_id: int | None = None,
) -> Agenda:
    """Every time of every round in a span of epoch seconds, in order, with what clashes."""
    asked = _Asked(shop.site_limits(conn), begin, min(end, at + 1), client_id, responsible_id)
    lines = [
        *_made(conn, asked),
        *_to_come(conn, asked._replace(begin=max(begin, at + 1), end=end)),
    ]
    return Agenda(
        since=from_seconds(begin),
        until=from_seconds(end),
        lines=tuple(with_clashes(lines, rounds.in_common(conn))),
    )


class _Asked(NamedTuple):
    """Which lines are wanted. Epoch seconds."""

    limits: dict[int, tuple[str, int | None]]
    """Name, and how many machines may work at once, of every client."""
    begin: int
    end: int
    client_id: int | None
    responsible_id: int | None


def _made(conn: Connection, asked: _Asked) -> Iterable[AgendaLine]:
    if asked.begin >= asked.end:
        return
    zone = the_shop(conn).zone
    counts: dict[tuple[int, int], list[occurrences.OccurrenceCount]] = defaultdict(list)
    for row in occurrences.of_occurrences(conn, asked.begin, asked.end):
        if asked.client_id in (None, row.client_id):
            counts[row.round_id, row.occurs_at].append(row)
    names = rounds.names(conn, {round_id for round_id, _ in counts})
    for (round_id, occurs_at), rows in counts.items():
        known = names[round_id]
        if asked.responsible_id not in (None, known.responsible_id):
            continue
        states: dict[str, int] = defaultdict(int)
        at_client: dict[int, int] = defaultdict(int)
        for row in rows:
            states[row.state] += row.runs
            at_client[row.client_id] += row.runs
        opens = min(row.due_at for row in rows)
        ends = max((row.ended_at for row in rows if row.ended_at), default=opens)
        yield AgendaLine(
            round_id=round_id,
            round_name=known.name,
            routine_name=known.routine_name,
            occurs_at=from_seconds(occurs_at),
            opens_at=from_seconds(opens),
            ends_at=from_seconds(max(opens, ends)),
            zone=zone,
            clients=tuple(
                AgendaClient(client_id=client_id, client_name=asked.limits[client_id][0],
                             machines=count, expected_duration=timedelta(0))
                for client_id, count in sorted(at_client.items())
            ),
            machines=sum(at_client.values()),
            states=dict(states),
        )  # fmt: skip


def _to_come(conn: Connection, asked: _Asked) -> Iterable[AgendaLine]:
    if asked.begin >= asked.end:
        return
    table = Timetable(conn)
    for round_ in rounds.rounds(conn, after=0, limit=_EVERY_ROUND):
        plan = round_.plan
        if plan.paused or asked.responsible_id not in (None, plan.responsible_id):
            continue
        by_client: dict[int, list[int]] = defaultdict(list)
        for member in rounds.members(conn, round_.id):
            if asked.client_id in (None, member.client_id):
                by_client[member.client_id].append(member.machine_id)
        takes = routines.takes(
            conn, plan.routine_id, [m for some in by_client.values() for m in some]
        )
        groups: dict[int, tuple[Timing, list[AgendaClient], set[int]]] = {}
        for client_id, machines in sorted(by_client.items()):
            timing = table.timing(round_.id, plan, client_id)
            name, at_once = asked.limits[client_id]
            spans = [timedelta(seconds=takes[m]) for m in machines]
            _, clients, together = groups.setdefault(id(timing), (timing, [], set()))
            together.update(machines)
            clients.append(
                AgendaClient(
                    client_id=client_id, client_name=name, machines=len(machines),
                    expected_duration=site_takes(spans, at_once),
                )
            )  # fmt: skip
        skipped = rounds.skipped_from(conn, round_.id, asked.begin)
        for timing, clients, together in groups.values():
            own = {occurs_at: len(some & together) for occurs_at, some in skipped.items()}
            yield from _of_round(round_, timing, tuple(clients), own, asked.begin, asked.end)


def _of_round(
    round_: Round,
    timing: Timing,
    clients: tuple[AgendaClient, ...],
    skipped: dict[int, int],
    begin: int,
    end: int,
) -> Iterable[AgendaLine]:
    machines = sum(client.machines for client in clients)
    longest = max(client.expected_duration for client in clients)
    for occurrence in timing.after(begin - 1):
        if occurrence.opens_at >= end:
            return
        (first, *_) = timing.stretches(occurrence)
        opens = from_seconds(occurrence.opens_at)
        spread = round_.plan.spread if machines > 1 else timedelta(0)
        notes = [timing.told(occurrence)]
        if left_out := skipped.get(occurrence.occurs_at, 0):
            notes.append(f"skipped on {left_out} of {machines}")
        yield AgendaLine(
            round_id=round_.id,
            round_name=round_.name,
            routine_name=round_.routine_name,
            occurs_at=from_seconds(occurrence.occurs_at),
            opens_at=opens,
            closes_at=None if first.end_by is None else from_seconds(first.end_by),
            ends_at=opens + spread + longest,
            zone=timing.zone.key,
            clients=clients,
            machines=machines,
            note="; ".join(filter(None, notes)),
            cancelled=left_out >= machines,
        )
