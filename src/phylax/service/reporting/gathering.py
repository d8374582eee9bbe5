"""What the records know, gathered for a report."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from sqlite3 import Connection
from statistics import median
from typing import NamedTuple
from zoneinfo import ZoneInfo

from phylax.core.checks.kind import kinds
from phylax.core.clients.shop import Machine, Volume
from phylax.core.desk.advice import AdviceStatus, GivenAdvice
from phylax.core.desk.visits import Visit
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.record.records import Record, RecordKind
from phylax.core.reporting.composing import MOST_MACHINES
from phylax.core.reporting.facts import (
    ByHand,
    Changed,
    CheckedThings,
    Cleaned,
    Facts,
    LetGo,
    MachineFacts,
    PutBack,
    Remark,
    ReportedAction,
    ReportedFinding,
    ReportedVisit,
    VolumeThen,
)
from phylax.core.reporting.request import ReportRequest
from phylax.core.retention.rules import Reason
from phylax.core.runs.runs import RunDetail, RunState
from phylax.core.scheduling.routines import StepState
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.starts import BootCost
from phylax.service.context.context import the_shop
from phylax.service.problems import invalid
from phylax.store.checks import checks
from phylax.store.clients import machine_list
from phylax.store.desk import advice, visits
from phylax.store.record import records
from phylax.store.runs import holds, runs
from phylax.store.scheduling import rounds
from phylax.store.trends import readings
from phylax.store.tuning import settings_changes, starts

_MONTH = timedelta(days=30)
_FIRST_YEAR, _LAST_YEAR = 1971, 9998
_BEFORE = 2 * 86400
"""So far back the free space before the span is looked for, in seconds."""
_DRAWN = timedelta(days=90)
_MOST_RUNS = 300
_MOST_ENTRIES = 400
_MOST_VISITS = 20
_FEW_STARTS = 3
_READ = frozenset({"updates", "programs", "drivers", "browsers", "condition", "hardware"})
"""What is only read out, and is no check of anything for a client."""
_CLOSED = (AdviceStatus.DECLINED, AdviceStatus.DONE)
_WRITTEN = (RecordKind.NOTE, RecordKind.CALL)
_TELLS = (RecordKind.RUN, RecordKind.VISIT, RecordKind.SETTING)
_ENDED_WELL = (RunState.DONE, RunState.PARTLY, RunState.CALLED_OFF)


class Span(NamedTuple):
    """From when until when, in epoch seconds; the first belongs to it, the second does not."""

    since: int
    until: int
    zone: ZoneInfo

    def has(self, at: datetime | None) -> bool:
        return at is not None and self.since <= to_seconds(at) < self.until

    def day(self, at: datetime) -> date:
        return at.astimezone(self.zone).date()


class Gathered(NamedTuple):
    """What a report is made of, and where that is written."""

    facts: Facts
    machines: tuple[Machine, ...]
    entries: tuple[int, ...]


def gather(conn: Connection, asked: ReportRequest, now: int) -> Gathered:
    """All that a report is to say; Problem where there is nothing to report on."""
    zone = the_shop(conn).clock
    today = from_seconds(now).astimezone(zone).date()
    visit = None
    if asked.visit is not None:
        visit = visits.visit(conn, asked.visit, today=today)
        if visit is None:
            raise invalid("/visit", f"there is no visit {asked.visit}")
    machines = _machines(conn, asked, visit)
    span = _span(asked, visit, zone, today, now)
    notes = _notes(conn, asked, machines)
    entries: set[int] = {note.id for note in notes}
    of_machines = []
    # what no report shows is not gone into: a client may have thousands
    for machine in machines[:MOST_MACHINES]:
        of_machine, numbers = _of_machine(conn, machine, span, visit, notes, now)
        of_machines.append(of_machine)
        entries.update(numbers)
    facts = Facts(
        client=machines[0].client_name,
        machines=tuple(of_machines),
        first=span.day(from_seconds(span.since)),
        last=min(today, span.day(from_seconds(max(span.since, span.until - 1)))),
        day=today,
        visit=visit.id if visit else None,
        is_of_client=asked.client_id is not None,
        more=max(0, len(machines) - MOST_MACHINES),
        cover=asked.cover,
    )
    newest = sorted(entries)[-_MOST_ENTRIES:]
    return Gathered(facts, tuple(machines[:MOST_MACHINES]), tuple(newest))


def _machines(conn: Connection, asked: ReportRequest, visit: Visit | None) -> list[Machine]:
    if asked.client_id is not None:
        of_client = conn.execute(
            "SELECT id FROM machines WHERE client_id = ? AND retired_at IS NULL ORDER BY tag",
            (asked.client_id,),
        ).fetchall()
        machines = machine_list.by_numbers(conn, [row[0] for row in of_client])
        if not machines:
            raise invalid("/client_id", "this client has no machine that is looked after")
        return machines
    number = visit.machine_id if visit is not None else asked.machine_id
    machines = machine_list.by_numbers(conn, [number] if number is not None else [])
    if not machines:
        raise invalid("/machine_id", f"there is no machine {number}")
    return machines


def _span(asked: ReportRequest, visit: Visit | None, zone: ZoneInfo, today: date, now: int) -> Span:
    if visit is not None:
        until = now if visit.closed_at is None else to_seconds(visit.closed_at)
        return Span(to_seconds(visit.opened_at), until + 1, zone)
    last = asked.last or today
    first = asked.first or max(date.min + _MONTH, last) - _MONTH
    if first > last:
        raise invalid("/first", f"it is not after {last}, the last day")
    if first > today:
        raise invalid("/first", "it lies ahead")
    if first.year < _FIRST_YEAR or last.year > _LAST_YEAR:
        raise invalid("/first", f"write days between {_FIRST_YEAR} and {_LAST_YEAR}")
    ends = [datetime.combine(day, time(), zone) for day in (first, last + timedelta(days=1))]
    begin, end = map(to_seconds, ends)
    return Span(begin, end, zone)


def _notes(conn: Connection, asked: ReportRequest, machines: Sequence[Machine]) -> list[Record]:
    chosen = []
    known = {machine.id for machine in machines}
    for number in dict.fromkeys(asked.notes):
        note = records.record(conn, number)
        if note is None or note.machine_id not in known or note.kind not in _WRITTEN:
            raise invalid("/notes", f"entry {number} is no note of what this report is about")
        chosen.append(note)
    return chosen


def _of_machine(
    conn: Connection,
    machine: Machine,
    span: Span,
    visit: Visit | None,
    notes: Sequence[Record],
    now: int,
) -> tuple[MachineFacts, list[int]]:
    choice = records.RecordChoice(
        machine_id=machine.id,
        kinds=_TELLS,
        visit_id=visit.id if visit else None,
        since=None if visit else span.since,
        until=None if visit else span.until,
    )
    written = records.records(conn, choice, before=2**62, limit=_MOST_ENTRIES)
    # what belongs to a visit its entries say; a machine's clock may be some seconds ahead
    ended = (
        [record.run_id for record in written if record.run_id is not None]
        if visit
        else runs.ended_between(conn, machine.id, span.since, span.until, limit=_MOST_RUNS)
    )
    details = [
        detail
        for number in reversed(ended)
        if (detail := runs.detail(conn, number)) is not None and detail.state in _ENDED_WELL
    ]
    own_notes = [note for note in notes if note.machine_id == machine.id]
    let_go, held, held_until = _let_go(conn, machine.id, details, now, span)
    volumes = [volume for volume in machine.volumes if volume.gone_at is None]
    facts = MachineFacts(
        tag=machine.tag,
        make_and_model=f"{machine.make} {machine.model}".strip(),
        visits=_visits(conn, machine.id, visit, span),
        actions=_deeds(conn, machine.id, details, written, own_notes, span),
        volumes=tuple(
            then for volume in volumes if (then := _volume(conn, volume, span)) is not None
        ),
        starts=_starts(conn, machine.id, span),
        let_go=let_go,
        held=held,
        held_until=held_until,
        left=_left(details),
        findings=_findings(conn, machine.id, details),
        advice=tuple(
            kept for kept in advice.of_machine(conn, machine.id) if _is_reported(kept, span)
        ),
        next=tuple(
            (span.day(planned.next_at), planned.routine_name)
            for planned in rounds.of_machine(conn, machine.id)
            if planned.next_at is not None and not planned.paused
        ),
    )
    return facts, [record.id for record in written]


def _visits(
    conn: Connection, machine_id: int, visit: Visit | None, span: Span
) -> tuple[ReportedVisit, ...]:
    if visit is not None:
        in_span = [visit]
    else:
        known = visits.listed(
            conn, machine_id=machine_id, before=2**62, today=date.min, limit=_MOST_VISITS
        )
        in_span = [
            earlier
            for earlier in reversed(known)
            if to_seconds(earlier.opened_at) < span.until
            and (earlier.closed_at is None or to_seconds(earlier.closed_at) >= span.since)
        ]
    return tuple(
        ReportedVisit(
            number=each.id,
            opened=span.day(each.opened_at),
            closed=span.day(each.closed_at) if each.closed_at else None,
            outcome=each.outcome,
            said=each.reported_problem,
            guaranteed_until=each.guaranteed_until,
        )
        for each in in_span
    )


def _deeds(
    conn: Connection,
    machine_id: int,
    details: Sequence[RunDetail],
    written: Sequence[Record],
    notes: Sequence[Record],
    span: Span,
) -> tuple[ReportedAction, ...]:
    actions: list[ReportedAction] = []
    sentences = {record.run_id: record.text for record in written if record.run_id is not None}
    for run in details:
        assert run.ended_at is not None
        day = span.day(run.ended_at)
        gone = sum((o.removed + o.held for o in run.outcomes), Tally())
        if run.work == "clean" and gone.count:
            actions.append(Cleaned(day, run.freed or 0, gone))
        if run.work == "put back" and run.put_back is not None and run.put_back.count:
            actions.append(PutBack(day, run.put_back.count))
        if run.work == "act" and run.id in sentences:
            actions.append(Remark(day, sentences[run.id]))
        actions += _checked(conn, run.id, day)
        actions += [
            ByHand(span.day(step.at or run.ended_at), step.in_words, step.comment)
            for step in run.steps
            if not step.kind.by_agent and step.state is StepState.DONE
        ]
    for change in settings_changes.of_machine(conn, machine_id):
        if span.has(change.at):
            actions.append(
                Changed(
                    span.day(change.at), change.name, change.before, change.after, change.comment,
                    is_set_back=False,
                )
            )  # fmt: skip
        if change.state is ChangeState.PUT_BACK and change.ended_at and span.has(change.ended_at):
            actions.append(
                Changed(
                    span.day(change.ended_at), change.name, change.before, change.after, "",
                    is_set_back=True,
                )
            )  # fmt: skip
    actions += [Remark(span.day(note.at), note.text) for note in notes]
    return tuple(sorted(actions, key=lambda action: action.day))


def _checked(conn: Connection, run_id: int, day: date) -> list[CheckedThings]:
    known = [
        kept.checked for kept in checks.of_run(conn, run_id) if kept.checked.check not in _READ
    ]
    if not known:
        return []
    names = dict.fromkeys(
        kind.name if (kind := kinds().get(checked.check)) else checked.check for checked in known
    )
    findings = sum(
        sum(finding.needs_somebody for finding in checked.findings) + checked.unlisted
        for checked in known
    )
    return [CheckedThings(day, tuple(names), findings, not any(c.why for c in known))]


def _volume(conn: Connection, volume: Volume, span: Span) -> VolumeThen | None:
    """A volume over the span; None where nothing was read of it then."""
    series = readings.hourly(conn, volume.id, span.since - _BEFORE, span.until)
    if len(series) < 2:
        series = readings.daily(conn, volume.id, span.since - _BEFORE, span.until) or series
    if not series:
        return None
    earlier = [reading for reading in series if reading.at <= span.since]
    drawn_since = min(span.since, span.until - int(_DRAWN.total_seconds()))
    days = readings.daily(conn, volume.id, drawn_since, span.until)
    return VolumeThen(
        name=f"{volume.name} ({volume.mount})" if volume.name else volume.mount,
        capacity=volume.capacity,
        before=(earlier or series)[-1 if earlier else 0].free,
        after=series[-1].free,
        points=tuple(
            (span.day(from_seconds(reading.at)), reading.free / reading.capacity)
            for reading in days
            if reading.capacity
        ),
    )


def _starts(conn: Connection, machine_id: int, span: Span) -> tuple[float, float] | None:
    """What a start cost before and after, where something was changed; None where too few are
    known."""
    changed = [
        change
        for change in settings_changes.of_machine(conn, machine_id)
        if span.has(change.at) and change.state is ChangeState.MADE
    ]
    if not changed:
        return None
    at = min(to_seconds(change.at) for change in changed)
    before, after = starts.around(conn, machine_id, at, None, most=10)
    costs = [[_cost(start) for start in side if start.left_out is None] for side in (before, after)]
    if min(map(len, costs)) < _FEW_STARTS:
        return None
    return median(costs[0]), median(costs[1])


def _cost(start: BootCost) -> float:
    return start.unattributed + sum((start.programs or {}).values())


def _let_go(
    conn: Connection, machine_id: int, details: Sequence[RunDetail], now: int, span: Span
) -> tuple[tuple[LetGo, ...], Tally, date | None]:
    """By category what went and was not put back again; what of it is still held, until when."""
    gone: dict[str, Tally] = {}
    for run in details:
        for outcome in run.outcomes if run.work == "clean" else ():
            known = gone.get(outcome.category, Tally())
            gone[outcome.category] = known + outcome.removed + outcome.held
    of_runs = {run.id for run in details if run.work == "clean"}
    held, until = Tally(), None
    for hold in holds.of_machine(conn, machine_id, also_ended=True, limit=_MOST_RUNS):
        if hold.run_id not in of_runs:
            continue
        known = gone.get(hold.category, Tally())
        gone[hold.category] = Tally(
            count=max(0, known.count - hold.put_back.count),
            size=max(0, known.size - hold.put_back.size),
        )
        if hold.held.count and to_seconds(hold.expires_at) > now:
            held += hold.held
            day = span.day(hold.expires_at)
            until = day if until is None else min(until, day)
    by_size = sorted(gone.items(), key=lambda item: -item[1].size)
    return tuple(LetGo(key, tally) for key, tally in by_size if tally.count), held, until


def _left(details: Sequence[RunDetail]) -> tuple[tuple[Reason, Tally], ...]:
    """What stayed at the last cleaning of each category: what stood in the way, and what is kept
    on purpose."""
    last = {
        outcome.category: outcome
        for run in details
        if run.work == "clean"
        for outcome in run.outcomes
    }
    sums: dict[Reason, Tally] = {}
    for outcome in last.values():
        for stay in outcome.left:
            if stay.reason.should_have_gone or stay.reason in (
                Reason.PROTECTED, Reason.NOT_AGREED
            ):  # fmt: skip
                known = sums.get(stay.reason, Tally())
                sums[stay.reason] = known + Tally(count=stay.count, size=stay.size)
    by_size = sorted(sums.items(), key=lambda item: -item[1].size)
    return tuple((reason, tally) for reason, tally in by_size if tally.count)


def _findings(
    conn: Connection, machine_id: int, details: Sequence[RunDetail]
) -> tuple[ReportedFinding, ...]:
    """What is open, and what was found in the span and dealt with."""
    kept = {check.id: check for check in checks.newest(conn, [machine_id]) if check.is_open}
    for run in details:
        kept |= {check.id: check for check in checks.of_run(conn, run.id) if check.settled_at}
    return tuple(
        ReportedFinding(
            finding.what, finding.where or check.checked.target, finding.severity, not check.is_open
        )
        for check in kept.values()
        for finding in check.checked.findings
        if finding.needs_somebody
    )


def _is_reported(kept: GivenAdvice, span: Span) -> bool:
    if kept.status is AdviceStatus.DROPPED:
        return False
    return kept.status not in _CLOSED or span.has(kept.at)
