"""A round before it is saved, and what people change of its next times."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from itertools import islice
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.runs.runs import RunState
from phylax.core.scheduling.presence import (
    Presence,
    by_hour_of_week,
    in_a_sentence,
    is_seldom,
    known_since,
    on_in_window,
    propose,
)
from phylax.core.scheduling.recurrence import left_out, next_dates
from phylax.core.scheduling.rounds import (
    Described,
    Habit,
    Postponed,
    Round,
    RoundEdit,
    RoundMachine,
    RoundPreview,
)
from phylax.core.scheduling.timing import Occurrence, Timing, ever_fits
from phylax.service.context.context import the_shop
from phylax.service.problems import Problem, invalid
from phylax.service.runs import queue
from phylax.service.runs.create import check_volumes
from phylax.service.runs.finish import give_up
from phylax.service.scheduling.timetable import Timetable
from phylax.store.clients import shop
from phylax.store.people import people
from phylax.store.runs import occurrences, runs
from phylax.store.scheduling import presence, rounds, routines

_MOST_TOLD = 20
_NOBODYS = 0
"""No client's number: it has no days or clock of its own."""


def check(conn: Connection, edit: RoundEdit) -> None:
    """Problems where a round names what is not there."""
    if routines.routine(conn, edit.routine_id) is None:
        raise invalid("/routine_id", f"there is no routine {edit.routine_id}")
    wanted = [*edit.machine_ids, *edit.except_machine_ids]
    known = {m.id for m in shop.machines_by_id(conn, wanted)} if wanted else set()
    for field in ("machine_ids", "except_machine_ids"):
        if missing := [m for m in getattr(edit, field) if m not in known]:
            raise invalid(f"/{field}", f"there is no machine {missing[0]}")
    clients = shop.site_limits(conn)
    if missing := [c for c in edit.client_ids if c not in clients]:
        raise invalid("/client_ids", f"there is no client {missing[0]}")
    if edit.responsible_id is not None and people.by_id(conn, edit.responsible_id) is None:
        raise invalid("/responsible_id", f"there is no person {edit.responsible_id}")
    if not edit.volumes.is_all:
        machine_ids = [m.id for m in shop.described(conn) if edit.takes(m)]
        check_volumes(conn, "/volumes", edit.volumes, machine_ids)


def check_dates(conn: Connection, edit: RoundEdit, *, at: int) -> None:
    if edit.recurrence is None or edit.paused:
        return
    zone = the_shop(conn).clock
    beginning = datetime(1900, 1, 1, tzinfo=UTC)

    def comes(after: datetime) -> bool:
        rule = edit.recurrence or ""
        return bool(next_dates(rule, edit.starts_on, edit.at, zone, after=after, most=1))

    if not comes(from_seconds(at)):
        why = (
            "its last date has passed"
            if comes(beginning)
            else f"it names no day from {edit.starts_on} on"
        )
        raise invalid("/recurrence", f"this round would never run: {why}")


def _timing(conn: Connection, edit: RoundEdit) -> Timing:
    """As the shop, or its one client, sees it."""
    only = edit.client_ids[0] if len(edit.client_ids) == 1 else _NOBODYS
    if not edit.client_ids and edit.machine_ids:
        clients = {m.client_id for m in shop.machines_by_id(conn, list(edit.machine_ids))}
        only = clients.pop() if len(clients) == 1 else _NOBODYS
    return Timetable(conn).timing_of(edit, only)


def next_times(conn: Connection, edit: RoundEdit, *, at: int, most: int = 5) -> list[Occurrence]:
    return list(islice(_timing(conn, edit).after(at), most))


def preview(conn: Connection, edit: RoundEdit, *, at: int) -> RoundPreview:
    check_dates(conn, edit, at=at)
    timing = _timing(conn, edit)
    dates = list(islice(timing.after(at), 5))
    chosen = [m for m in shop.described(conn) if edit.takes(m)]
    takes = routines.takes(conn, edit.routine_id, [m.id for m in chosen])
    notes = [timing.told(occurrence) for occurrence in dates]
    if edit.recurrence is not None:
        notes.append(left_out(edit.recurrence, edit.starts_on))
    too_long = []
    if dates and edit.closes is not None:
        window = timing.stretches(dates[0])
        too_long = [m.tag for m in chosen if not ever_fits(window, timedelta(seconds=takes[m.id]))]
    return RoundPreview(
        recurrence=edit.recurrence,
        how_often=edit.in_words(),
        often=edit.often_in_words(),
        next_dates=tuple(from_seconds(occurrence.opens_at) for occurrence in dates),
        notes=tuple(filter(None, notes)),
        machines=len(chosen),
        expected_duration=timedelta(seconds=max(takes.values())) if takes else None,
        seldom_on=tuple(seldom_on(conn, edit, at=at)),
        too_long_for=tuple(too_long[:_MOST_TOLD]),
        without_volumes=tuple(_without_volumes(conn, edit, chosen)[:_MOST_TOLD]),
    )


def _without_volumes(conn: Connection, edit: RoundEdit, chosen: Sequence[Described]) -> list[str]:
    """The machines on which there would be nothing to do."""
    if edit.volumes.is_all:
        return []
    mounts = shop.mounts(conn, [m.id for m in chosen])
    return [m.tag for m in chosen if mounts.get(m.id) and not edit.volumes.of(mounts[m.id])]


def seldom_on(conn: Connection, edit: RoundEdit, *, at: int) -> list[Habit]:
    """The machines of a round that are seldom on in its window, worst first; some of them."""
    chosen = [m for m in shop.described(conn) if edit.takes(m)]
    table = Timetable(conn)
    listed = []
    known = presence.weeks(conn, [m.id for m in chosen])
    for machine in chosen:
        weeks = known[machine.id]
        since = known_since(weeks)
        if since is None:
            continue
        timing = table.timing_of(edit, machine.client_id)
        on = on_in_window(timing, weeks, at, since)
        if is_seldom(on):
            listed.append((on, machine, timing, weeks, since))
    listed.sort(key=lambda listed_machine: (listed_machine[0].share, listed_machine[1].tag))
    habits = []
    for on, machine, timing, weeks, since in listed[:_MOST_TOLD]:
        proposed = propose(timing, weeks, at, since)
        habits.append(
            Habit(
                machine_id=machine.id,
                machine_tag=machine.tag,
                online=on.was_on,
                window=on.of,
                sentence=in_a_sentence(machine.tag, timing, on, proposed, at),
                proposed_at=proposed and proposed[1],
                proposed_day=proposed[0] if proposed else "",
            )
        )
    return habits


def presence_of(conn: Connection, machine_ids: list[int], *, at: int) -> Presence:
    """The mean over some machines, by local hour of the week; at most a hundred of them."""
    zone = the_shop(conn).clock
    some = machine_ids[:100]
    known = [weeks for weeks in presence.weeks(conn, some).values() if weeks]
    grids = [by_hour_of_week(weeks, zone, at) for weeks in known]
    count = max(1, len(grids))
    return Presence(
        machines=len(grids),
        weeks=max((len(weeks) for weeks in known), default=0),
        shares=tuple(
            tuple(round(sum(g[day][hour] for g in grids) / count, 3) for hour in range(24))
            for day in range(7)
        ),
    )


def machines_of(conn: Connection, round_: Round) -> list[RoundMachine]:
    """A round's machines, by client and tag."""
    members = {member.machine_id: member for member in rounds.members(conn, round_.id)}
    takes = routines.takes(conn, round_.plan.routine_id, list(members))
    open_ = occurrences.of_round(conn, round_.id, list(members))
    postponements = {
        (machine_id, occurs_at): postponement
        for occurs_at in {m.occurs_at for m in members.values() if m.occurs_at is not None}
        for machine_id, postponement in rounds.postponed(
            conn, round_.id, list(members), occurs_at
        ).items()
    }
    round_machines = []
    for machine in shop.described(conn):
        member = members.get(machine.id)
        if member is None:
            continue
        waiting = [run for run in open_.get(machine.id, ()) if run.state is RunState.WAITING]
        postponed = postponements.get((machine.id, member.occurs_at or 0))
        round_machines.append(
            RoundMachine(
                machine_id=machine.id,
                machine_tag=machine.tag,
                client_name=machine.client_name,
                next_at=None if member.next_at is None else from_seconds(member.next_at),
                expected_duration=timedelta(seconds=takes[machine.id]),
                waiting_run_id=waiting[0].id if waiting else None,
                postponed=postponed.in_words if postponed else "",
            )
        )
    return sorted(round_machines, key=lambda row: (row.client_name, row.machine_tag))


# --- one machine's next time -----------------------------------------------------------------


def postpone(conn: Connection, round_: Round, asked: Postponed, *, who: str, at: int) -> None:
    """Skip or hold back the time that waits on a machine, else the one that comes next."""
    waiting = [
        run
        for run in occurrences.of_round(conn, round_.id, [asked.machine_id]).get(
            asked.machine_id, ()
        )
        if run.state is RunState.WAITING
    ]
    if waiting:
        _postpone_waiting(conn, round_, waiting[0].id, asked, who=who, at=at)
        return
    member = rounds.member(conn, round_.id, asked.machine_id)
    if member is None or member.occurs_at is None:
        raise Problem(409, "nothing-comes", f"{round_.name} has no more dates for this machine.")
    rounds.postpone(conn, round_.id, member.occurs_at, asked, who=who, at=at)


def _postpone_waiting(
    conn: Connection, round_: Round, run_id: int, asked: Postponed, *, who: str, at: int
) -> None:
    run = runs.run(conn, run_id)
    assert run is not None
    if asked.until is None:
        skipped = rounds.Postponement(None, asked.comment, who)
        give_up(conn, run, RunState.CALLED_OFF, skipped.in_words, at=at)
        return
    queue.hold_back(conn, round_, run, to_seconds(asked.until), at=at)


def call_off_waiting(conn: Connection, round_: Round, *, who: str, at: int) -> None:
    members = [member.machine_id for member in rounds.members(conn, round_.id)]
    for some in occurrences.of_round(conn, round_.id, members).values():
        for run in some:
            if run.state is RunState.WAITING:
                give_up(conn, run, RunState.CALLED_OFF, f"the round was ended by {who}", at=at)
