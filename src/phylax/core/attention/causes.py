"""Each cause for attention is one small rule, in one list.

A rule looks at a machine's standing and gives what it found, with its evidence and what to do next.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import timedelta

from phylax.core.attention.check_causes import (
    check_findings,
    failing,
    malware,
    not_back,
    updates_overdue,
)
from phylax.core.attention.desk_causes import not_fetched, part_late, visit_overdue
from phylax.core.attention.findings import Cause, Finding, MachineCondition, NextStep, finding
from phylax.core.attention.tuning_causes import altered, change_undone, made_worse, programs_wait
from phylax.core.catalogue import category
from phylax.core.ground.quantities import (
    count,
    show_age,
    show_day,
    show_seconds,
    show_share,
    show_size,
)
from phylax.core.runs.runs import RunState
from phylax.core.trends import Advice, Grown, Help, Outlook

SILENT_AFTER = timedelta(days=7)
SOON = timedelta(days=30)
RECENT = timedelta(days=45)
"""A change of pace is news for so long."""
CLOCK_WRONG_FROM = 300
CLOCK_DOUBT_AFTER = timedelta(hours=1)
HOLD_PERCENT = 5

Rule = Callable[[MachineCondition], Iterable[Finding]]


def _nearly_full(standing: MachineCondition) -> Iterator[Finding]:
    """A volume is used more than its threshold allows."""
    outlook_of = {line.volume_id: line for line in standing.outlooks}
    for volume in standing.machine.volumes:
        if not volume.is_nearly_full(standing.threshold_percent):
            continue
        outlook = outlook_of.get(volume.id)
        advice = outlook.advice if outlook else None
        can_go = standing.removable.size if standing.removable else 0
        worth_it = 100 * can_go >= volume.capacity
        free = f"{show_size(volume.free)} free"
        if worth_it:
            evidence, step = f"{free}; {show_size(can_go)} can go", NextStep.CLEAN
        elif standing.surveyed_at is None:
            evidence, step = f"{free}; not looked at yet", NextStep.LOOK
        else:
            evidence = f"{free}; cleaning would free only {show_size(can_go)}"
            step = NextStep.ASK_CLIENT
        if advice and advice.helps not in (Help.CLEANING, Help.NOTHING_NEEDED, Help.LOOK):
            evidence += f". {_remedy(advice)}"
        full = outlook.full if outlook else None
        if full and full.likely and full.likely - standing.now < SOON:
            evidence += f". Likely full on {show_day(full.likely)}"
        yield finding(
            standing,
            cause=Cause.NEARLY_FULL,
            subject=volume.mount,
            urgency=90 if volume.free * 20 < volume.capacity else 75,
            grade=int(1000 * volume.used_share),
            since=outlook.over_since if outlook else None,
            reason=f"{volume.mount} is {show_share(volume.used, volume.capacity)} full",
            evidence=evidence,
            next_step=step,
            volume_mount=volume.mount,
        )


def _remedy(advice: Advice) -> str:
    """The last part of an advice: what would help."""
    words = advice.text.rsplit(": ", 1)[-1]
    return words[:1].upper() + words[1:].rstrip(".")


def _filling_fast(standing: MachineCondition) -> Iterator[Finding]:
    """A volume fills at a faster pace than it did, and that is recent."""
    for outlook in standing.outlooks:
        changed = outlook.changed
        if changed is None or standing.now - changed.since > RECENT:
            continue
        before = f"; before that {show_size(max(0, changed.before))} a day"
        yield finding(
            standing,
            cause=Cause.FILLING_FAST,
            subject=outlook.mount,
            urgency=72,
            grade=changed.now // 2**30,
            since=changed.since,
            reason=f"{outlook.mount} has filled by {show_size(changed.now)} a day since "
            f"{show_day(changed.since)}{before if changed.before > 2**20 else ''}",
            evidence=_what_grew(changed.grown, changed.looked),
            next_step=NextStep.SEE_TREND if changed.looked else NextStep.LOOK,
            volume_mount=outlook.mount,
        )


def _what_grew(grown: Iterable[Grown], looked: bool) -> str:
    names = [
        f"{category.name or category.category} by {show_size(category.size)}"
        for category in grown
        if category.size > 0
    ]
    if names:
        return "What grew: " + ", ".join(names[:2])
    if looked:
        return "No category grew: it is people's own data"
    return "No survey before and after: what grew is not known"


def _crosses_soon(standing: MachineCondition) -> Iterator[Finding]:
    """A volume likely crosses its threshold within a month."""
    for outlook in standing.outlooks:
        likely = outlook.crosses.likely if outlook.crosses else None
        if outlook.over or likely is None or likely - standing.now > SOON:
            continue
        yield finding(
            standing,
            cause=Cause.CROSSES_SOON,
            subject=outlook.mount,
            urgency=55,
            grade=(SOON - (likely - standing.now)).days,
            since=None,
            reason=f"{outlook.mount} will be over {outlook.threshold_percent} % "
            f"on about {show_day(likely)}",
            evidence=_evidence_of(outlook),
            next_step=NextStep.SEE_TREND,
            volume_mount=outlook.mount,
        )


def _evidence_of(outlook: Outlook) -> str:
    assert outlook.crosses is not None
    first, last = outlook.crosses.soonest, outlook.crosses.latest
    if first and last and first.date() == last.date():
        between = "The day is almost certain"
    else:
        between = f"Between {show_day(first)}" if first else "Between now"
        between += f" and {show_day(last)}" if last else " and much later"
    fills = (
        f"; it fills by {show_size(max(0, outlook.fill_rate.likely))} a day"
        if outlook.fill_rate
        else ""
    )
    if outlook.full and outlook.full.likely and outlook.full.likely - outlook.read_at < SOON:
        fills += f", likely full on {show_day(outlook.full.likely)}"
    return between + fills


def _run_failed(standing: MachineCondition) -> Iterator[Finding]:
    run = standing.last_run
    if run is not None and run.state is RunState.FAILED:
        yield finding(
            standing,
            cause=Cause.RUN_FAILED,
            urgency=80,
            grade=run.id,
            since=run.ended_at,
            reason=f"The last {run.work} failed",
            evidence=run.reason,
            next_step=NextStep.RUN_AGAIN,
            run_id=run.id,
        )


def _missed(standing: MachineCondition) -> Iterator[Finding]:
    run, times = standing.last_run, standing.missed_in_a_row
    if run is not None and run.state is RunState.MISSED and times >= 2:
        yield finding(
            standing,
            cause=Cause.MISSED,
            urgency=60,
            grade=times,
            since=run.due_at,
            reason=f"{run.round_name or 'A run'} was missed {count(times, 'time')} in a row",
            evidence=run.reason,
            next_step=NextStep.RUN_AGAIN,
            run_id=run.id,
        )


def _left(standing: MachineCondition) -> Iterator[Finding]:
    run = standing.last_run
    if run is not None and run.state is RunState.PARTLY:
        yield finding(
            standing,
            cause=Cause.LEFT,
            urgency=30,
            grade=run.id,
            since=run.ended_at,
            reason="The last cleaning left items that should have gone",
            evidence=run.reason,
            next_step=NextStep.LOOK,
            run_id=run.id,
        )


def _waits_for_yes(standing: MachineCondition) -> Iterator[Finding]:
    waits = standing.needs_approval
    if waits is not None and waits.count:
        yield finding(
            standing,
            cause=Cause.WAITS_FOR_YES,
            urgency=40,
            grade=waits.size // 2**30,
            since=standing.surveyed_at,
            reason="A listing waits for consent",
            evidence=f"{count(waits.count, 'file')}, {show_size(waits.size)}",
            next_step=NextStep.DECIDE,
        )


def _silent(standing: MachineCondition) -> Iterator[Finding]:
    """A machine has not called for a week, in which the service would have heard it."""
    seen = standing.machine.seen_at
    if not standing.machine.enrolled or seen is None:
        return
    could_call_since = max(seen, standing.awake_since or seen)
    if standing.now - could_call_since < SILENT_AFTER:
        return
    yield finding(
        standing,
        cause=Cause.SILENT,
        urgency=50,
        grade=(standing.now - seen).days,
        since=seen,
        reason="Has not been in contact",
        evidence=f"Last contact {show_age(seen, standing.now)}",
        next_step=NextStep.ASK_CLIENT,
    )


def _always_left(standing: MachineCondition) -> Iterator[Finding]:
    often = standing.left_often
    if often is None:
        return
    others = f" and {count(often.items - 1, 'other')}" if often.items > 1 else ""
    yield finding(
        standing,
        cause=Cause.ALWAYS_LEFT,
        urgency=45,
        grade=often.times,
        since=often.since,
        reason=f"Every cleaning leaves the same items, {count(often.times, 'time')} by now",
        evidence=f"{often.path}{others}, {show_size(often.size)}: {often.reason}",
        next_step=NextStep.LOOK,
    )


def _hold_fills(standing: MachineCondition) -> Iterator[Finding]:
    """What is held takes a good part of a volume that is nearly full."""
    volumes = {volume.mount: volume for volume in standing.machine.volumes}
    for held in standing.held:
        volume = volumes.get(held.mount)
        if volume is None or 100 * held.size < HOLD_PERCENT * volume.capacity:
            continue
        if not volume.is_nearly_full(standing.threshold_percent):
            continue
        yield finding(
            standing,
            cause=Cause.HOLD_FILLS,
            subject=held.mount,
            urgency=65,
            grade=100 * held.size // volume.capacity,
            since=held.since,
            reason=f"The hold takes {show_share(held.size, volume.capacity)} of {held.mount}",
            evidence=f"{show_size(held.size)} held, the last until {show_day(held.until)}; "
            f"{show_size(volume.free)} free",
            next_step=NextStep.SEE_HOLD,
            volume_mount=held.mount,
        )


def _clock_wrong(standing: MachineCondition) -> Iterator[Finding]:
    machine = standing.machine
    off = machine.clock_off
    if abs(off) < CLOCK_WRONG_FROM:
        return
    way = "ahead" if off > 0 else "behind"
    yield finding(
        standing,
        cause=Cause.CLOCK_WRONG,
        urgency=35,
        # twice as wrong is worse
        grade=abs(off).bit_length(),
        since=machine.clock_off_since,
        reason=f"The machine's clock is {show_seconds(abs(off))} {way}",
        evidence="Readings are corrected here; file times on the machine are not",
        next_step=NextStep.ASK_CLIENT,
    )


def _clock_doubted(standing: MachineCondition) -> Iterator[Finding]:
    """The agent does not trust its machine's clock, and not only while they get acquainted."""
    machine = standing.machine
    since = machine.clock_doubt_since
    if not machine.clock_doubt or since is None or standing.now - since < CLOCK_DOUBT_AFTER:
        return
    yield finding(
        standing,
        cause=Cause.CLOCK_DOUBTED,
        urgency=62,
        grade=0,
        since=since,
        reason="Nothing is cleaned: its clock is not trusted",
        evidence=machine.clock_doubt[:1].upper() + machine.clock_doubt[1:],
        next_step=NextStep.ASK_CLIENT,
    )


def _kept_young(standing: MachineCondition) -> Iterator[Finding]:
    """Old things that are never old enough, for something changes their attributes."""
    for young in standing.kept_young:
        if not young.again_and_again:
            continue
        name = category(young.category).name
        yield finding(
            standing,
            cause=Cause.KEPT_YOUNG,
            subject=f"{young.category} {young.mount}",
            urgency=33,
            grade=young.size // 2**30,
            since=young.since,
            reason=f"{name} on {young.mount}: most of it is old and does not go",
            evidence=f"{count(young.count, 'file')}, {show_size(young.size)}: only their owner, "
            "rights or times were changed lately. Look for a nightly script or a backup that does",
            next_step=NextStep.LOOK,
            volume_mount=young.mount,
        )


def _agent_old(standing: MachineCondition) -> Iterator[Finding]:
    mine, newest = standing.machine.agent_version, standing.newest_agent
    if mine and newest and _parts(mine) < _parts(newest):
        yield finding(
            standing,
            cause=Cause.AGENT_OLD,
            urgency=20,
            grade=0,
            since=None,
            reason=f"Its agent is {mine}, this service is {newest}",
            evidence="It works, but lacks what newer versions can do",
            next_step=NextStep.LOOK,
        )


def _parts(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split(".") if part.isdigit())


CAUSES: tuple[Rule, ...] = (
    failing,
    not_back,
    visit_overdue,
    part_late,
    not_fetched,
    malware,
    _nearly_full,
    _run_failed,
    _filling_fast,
    _hold_fills,
    updates_overdue,
    check_findings,
    made_worse,
    change_undone,
    _missed,
    _crosses_soon,
    _silent,
    _always_left,
    _waits_for_yes,
    _clock_doubted,
    _clock_wrong,
    altered,
    programs_wait,
    _kept_young,
    _left,
    _agent_old,
)


def look(standing: MachineCondition) -> list[Finding]:
    """Everything on one machine that needs a person."""
    return [finding for cause in CAUSES for finding in cause(standing)]
