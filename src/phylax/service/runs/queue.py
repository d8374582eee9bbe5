"""The queue: occurrences of rounds are made, wait, are chosen for their machine, or are missed."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import timedelta
from sqlite3 import Connection

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.runs.runs import Run, RunState, work_of
from phylax.core.scheduling.missed import Known, MissedCause, open_times, why
from phylax.core.scheduling.rounds import Round
from phylax.core.scheduling.routines import Routine
from phylax.core.scheduling.timing import Occurrence, Stretch, ever_fits, first_start, fits
from phylax.service.problems import invalid
from phylax.service.runs.finish import give_up
from phylax.service.scheduling.timetable import Timetable
from phylax.store.clients import shop
from phylax.store.file import events
from phylax.store.runs import leases, occurrences, runs
from phylax.store.runs.leases import Candidate
from phylax.store.runs.occurrences import Occurring
from phylax.store.scheduling import presence, rounds, routines
from phylax.store.scheduling.rounds import Member, Postponement

_RANK = (
    MissedCause.TOO_LATE, MissedCause.TOO_LONG, MissedCause.BUSY, MissedCause.SITE,
)  # fmt: skip


# --- made ------------------------------------------------------------------------------------


def make_due(conn: Connection, *, at: int) -> set[int]:
    """Make what has come due up to now, each occurrence once; the machines that may start."""
    due = rounds.due(conn, at=at)
    if not due:
        return set()
    table = Timetable(conn)
    by_round: dict[int, list[Member]] = defaultdict(list)
    for member in due:
        by_round[member.round_id].append(member)
    nudged: set[int] = set()
    for round_id, members in by_round.items():
        round_ = rounds.round_(conn, round_id)
        assert round_ is not None
        nudged |= _Making(conn, table, round_, at).make(members)
    return nudged


class _Making:
    """One round's times up to now, on all its machines that are due."""

    def __init__(self, conn: Connection, table: Timetable, round_: Round, at: int) -> None:
        self._conn = conn
        self._table = table
        self._round = round_
        self._at = at
        routine = routines.routine(conn, round_.plan.routine_id)
        assert routine is not None
        self._routine: Routine = routine

    def make(self, members: Sequence[Member]) -> set[int]:
        conn, round_, at = self._conn, self._round, self._at
        times: dict[tuple[int, Occurrence], list[Member]] = defaultdict(list)
        overtaken: list[tuple[int, int]] = []
        moved_on = []
        for member in members:
            before: Occurrence | None = None
            occurrence = self._pending(member)
            while occurrence is not None and occurrence.opens_at <= at:
                if not round_.plan.paused:
                    times[occurrence.opens_at, occurrence].append(member)
                    if before is not None:
                        overtaken.append((member.machine_id, before.occurs_at))
                before = occurrence
                occurrence = self._table.next(
                    round_.id, round_.plan, member.client_id, occurrence.opens_at
                )
            moved_on.append(
                (
                    round_.id,
                    member.machine_id,
                    occurrence and occurrence.opens_at,
                    occurrence and occurrence.occurs_at,
                )
            )
        rounds.set_next(conn, moved_on)
        if not times:
            return set()
        self._give_way([m.machine_id for m in members])
        takes = routines.takes(conn, self._routine.id, [m.machine_id for m in members])
        nudged: set[int] = set()
        for (_, occurrence), some in sorted(times.items()):
            nudged |= self._occur(occurrence, some, takes)
        for machine_id, occurs_at in overtaken:
            run = occurrences.run_of_occurrence(conn, round_.id, machine_id, occurs_at)
            if run is not None and run.state is RunState.WAITING:
                miss(conn, run.id, at=at, next_came=True)
        events.publish(conn, EventKind.ROUND, at=at)
        return nudged

    def make_now(self, member: Member, occurrence: Occurrence) -> None:
        """A time of its own, beside those of the calendar."""
        takes = routines.takes(self._conn, self._routine.id, [member.machine_id])
        self._give_way([member.machine_id])
        self._occur(occurrence, [member], takes)
        events.publish(self._conn, EventKind.ROUND, at=self._at)

    def _pending(self, member: Member) -> Occurrence | None:
        if member.next_at is None or member.occurs_at is None:
            return None
        timing = self._table.timing(self._round.id, self._round.plan, member.client_id)
        day = from_seconds(member.next_at).astimezone(timing.zone).date()
        moved = member.next_at != member.occurs_at
        return Occurrence(member.occurs_at, member.next_at, day, moved)

    def _give_way(self, machine_ids: Sequence[int]) -> None:
        """What still waits of this round gives way to the next time."""
        for some in occurrences.of_round(self._conn, self._round.id, machine_ids).values():
            for run in some:
                if run.state is RunState.WAITING:
                    miss(self._conn, run.id, at=self._at, next_came=True)
                elif run.awaits_person:
                    why = "a step by hand was not done before the next run was due"
                    give_up(self._conn, run, RunState.PARTLY, why, at=self._at)

    def _occur(
        self, occurrence: Occurrence, members: Sequence[Member], takes: dict[int, int]
    ) -> set[int]:
        """Make one time on its machines; those that may start now."""
        conn, round_ = self._conn, self._round
        postponements = rounds.postponed(
            conn, round_.id, [m.machine_id for m in members], occurrence.occurs_at
        )
        made, skipped = [], []
        for member in members:
            postponed = postponements.get(member.machine_id)
            made.append(self._on(member, occurrence, takes[member.machine_id], postponed))
            if postponed and postponed.until_at is None:
                skipped.append((member.machine_id, postponed))
        work, categories = work_of(self._routine.steps)
        occurrences.add_occurrences(
            conn, round_.id, round_.name, (self._routine.id, self._routine.version), work,
            categories, made, at=self._at, at_hand=not self._routine.steps[0].kind.by_agent,
            volumes=round_.plan.volumes,
        )  # fmt: skip
        for machine_id, postponed in skipped:
            run = occurrences.run_of_occurrence(conn, round_.id, machine_id, occurrence.occurs_at)
            if run is not None and run.state is RunState.WAITING:
                give_up(conn, run, RunState.CALLED_OFF, postponed.in_words, at=self._at)
        left_out = {machine_id for machine_id, _ in skipped}
        return {o.machine_id for o in made if o.due_at <= self._at and o.machine_id not in left_out}

    def _on(
        self, member: Member, occurrence: Occurrence, takes: int, postponed: Postponement | None
    ) -> Occurring:
        round_ = self._round
        if (
            postponed
            and postponed.until_at is not None
            and postponed.until_at > occurrence.opens_at
        ):
            timing = self._table.timing(round_.id, round_.plan, member.client_id)
            later = timing.from_now(postponed.until_at)
            if later is not None:
                occurrence = Occurrence(occurrence.occurs_at, later.opens_at, later.day, moved=True)
        stretches = self._table.stretches(round_.id, round_.plan, member.client_id, occurrence)
        due_at = first_start(
            stretches, round_.plan.spread, timedelta(seconds=takes), round_.id, member.machine_id
        )
        # until its turn comes, nothing stands in its way but its turn
        stretches = (stretches[0]._replace(opens_at=due_at), *stretches[1:])
        return Occurring(
            machine_id=member.machine_id,
            occurs_at=occurrence.occurs_at,
            stretches=json.dumps(stretches),
            due_at=due_at,
            closes_at=stretches[0].closes_at,
            start_before=stretches[-1].closes_at,
            expected_seconds=takes,
        )


def make_under_pressure(
    conn: Connection, machine_id: int, free: Mapping[str, float], *, at: int
) -> None:
    """Make a run of each of a machine's rounds that run when space is short on a volume that they
    are for; `free` is the per cent by volume."""
    table = Timetable(conn)
    for round_ in rounds.of_machine(conn, machine_id):
        pressure = round_.plan.pressure
        if pressure is None or round_.plan.paused:
            continue
        shares = [free[mount] for mount in round_.plan.volumes.of(free)]
        if not shares or min(shares) >= pressure.below_percent:
            continue
        newest = occurrences.newest_occurrence(conn, round_.id, machine_id)
        if newest is not None and at - newest < pressure.at_most_every * 86400:
            continue
        member = rounds.member(conn, round_.id, machine_id)
        assert member is not None
        timing = table.timing(round_.id, round_.plan, member.client_id)
        occurrence = timing.from_now(at)
        if occurrence is None or (
            round_.plan.paused_until and occurrence.day < round_.plan.paused_until
        ):
            continue
        _Making(conn, table, round_, at).make_now(member, occurrence)


def hold_back(conn: Connection, round_: Round, run: Run, until: int, *, at: int) -> None:
    """A waiting run waits until a later time, and from there as long as it would have. A problem
    where nobody is open for two weeks from then."""
    member = rounds.member(conn, round_.id, run.machine_id)
    assert member is not None
    timing = Timetable(conn).timing(round_.id, round_.plan, member.client_id)
    later = timing.from_now(until)
    if later is None:
        raise invalid("/until", "the shop is closed for two weeks from then; choose another time")
    stretches = timing.stretches(later)
    occurrences.hold_back(
        conn, run.id, stretches[0].opens_at, stretches[0].closes_at, stretches[-1].closes_at,
        json.dumps(stretches),
    )  # fmt: skip
    events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)


# --- chosen ----------------------------------------------------------------------------------


def choose(conn: Connection, machine_id: int, *, at: int) -> int | None:
    """The run that a machine is to carry out next; None where there is none just now.

    One at a time on a machine. A round's run starts inside its window, not beside an open list on
    the bench, and only while fewer than may are at work at its client's; what a person asked for,
    and what was begun, goes ahead.
    """
    candidates = leases.candidates(conn, machine_id, at=at)
    if any(candidate.on_lease for candidate in candidates):
        return None
    bench = any(candidate.on_bench and candidate.at_hand for candidate in candidates)
    for candidate in candidates:
        if candidate.at_hand:
            continue
        if candidate.state == "waiting" and candidate.stretches is not None:
            stretches = occurrences.stretches_in(candidate.stretches)
            if not any(s.opens_at <= at <= s.closes_at for s in stretches):
                continue
            obstacle = _obstacle(conn, machine_id, candidate, stretches, bench=bench, at=at)
            if obstacle is not None:
                _note(conn, candidate, obstacle)
                continue
        return candidate.id
    return None


def _obstacle(
    conn: Connection,
    machine_id: int,
    candidate: Candidate,
    stretches: Sequence[Stretch],
    *,
    bench: bool,
    at: int,
) -> MissedCause | None:
    """What keeps a round's run from starting, though its window is open."""
    takes = timedelta(seconds=candidate.takes)
    if bench:
        return MissedCause.BUSY
    if not any(fits(stretch, at, takes) for stretch in stretches):
        return MissedCause.TOO_LATE if ever_fits(stretches, takes) else MissedCause.TOO_LONG
    working, at_once = leases.working_at_client(conn, machine_id, at=at)
    if at_once is not None and working >= at_once:
        return MissedCause.SITE
    return None


def _note(conn: Connection, candidate: Candidate, obstacle: MissedCause) -> None:
    """Keep the obstacle that was nearest to running."""
    known = -1 if candidate.held_up is None else _RANK.index(MissedCause(candidate.held_up))
    if _RANK.index(obstacle) > known:
        leases.note_held_up(conn, candidate.id, obstacle)


def end_by(conn: Connection, run: Run, *, at: int) -> int | None:
    """By when a run must have ended: the end of the window in which it starts or started."""
    stretches = occurrences.facts(conn, run.id).stretches
    started = int(run.started_at.timestamp()) if run.started_at else at
    opened = [stretch for stretch in stretches if stretch.opens_at <= started]
    return opened[-1].end_by if opened and run.round_id is not None else None


# --- missed ----------------------------------------------------------------------------------


def close_windows(conn: Connection, *, at: int) -> set[int]:
    """Runs whose window has closed wait for the next, or were missed; machines that may start."""
    nudged: set[int] = set()
    for closing in occurrences.closing(conn, at=at):
        later = [
            s
            for s in (occurrences.stretches_in(closing.stretches) if closing.stretches else ())
            if s.closes_at >= at
        ]
        if not later:
            miss(conn, closing.id, at=at)
            continue
        occurrences.move_on(conn, closing.id, later[0].opens_at, later[0].closes_at)
        if later[0].opens_at <= at:
            nudged.add(closing.machine_id)
    return nudged


def miss(conn: Connection, run_id: int, *, at: int, next_came: bool = False) -> None:
    """End a waiting run as missed, with what stood in its way."""
    run = runs.run(conn, run_id)
    assert run is not None
    facts = occurrences.facts(conn, run_id)
    open_ = open_times(facts.stretches, at)
    begin = open_[0].begin if open_ else facts.due_at
    machine = shop.machine(conn, run.machine_id)
    held_up = None if facts.held_up is None else MissedCause(facts.held_up)
    if run.awaits_person:
        held_up = MissedCause.NOBODY
    missed = why(
        open_,
        Known(
            enrolled=machine is not None and machine.enrolled,
            outages=presence.outages(conn, begin, at),
            busy=occurrences.worked_between(conn, run.machine_id, begin, at, but=run_id),
            held_up=held_up,
        ),
    )
    reason = missed.words
    if next_came and missed.cause is not MissedCause.SERVICE_DOWN:
        reason += "; then its next time came"
    give_up(conn, run, RunState.MISSED, reason, at=at, cause=missed.cause)
