"""Giving a machine's agent its next order, with a lease."""

from __future__ import annotations

import secrets
from sqlite3 import Connection

from phylax.core.catalogue import catalogue
from phylax.core.ground.events import EventKind
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds
from phylax.core.protocol import (
    LEASE_SECONDS,
    ActOrder,
    AgreedListing,
    CategoryRule,
    ChangeSettingsOrder,
    CleanOrder,
    HeldOrder,
    Order,
    PutSettingsBackOrder,
    ReadSettingsOrder,
    SurveyOrder,
)
from phylax.core.retention import Caution, ProtectEntry
from phylax.core.runs.runs import Run, RunState
from phylax.core.scheduling.routines import StepKind
from phylax.core.tuning.changes import Wanted, WantedValue
from phylax.service.runs import checklist, judgement, queue
from phylax.service.runs.finish import give_up
from phylax.service.tuning import judging as tuning
from phylax.service.upkeep.asking import why_stopped
from phylax.service.upkeep.steps import check_order, order_of
from phylax.store.clients import shop
from phylax.store.file import events
from phylax.store.retention import consents, protections, rules
from phylax.store.runs import holds, leases, runs, step_lengths
from phylax.store.survey import snapshots, surveys


def offer(conn: Connection, machine_id: int, *, at: int) -> Order | None:
    """The next order for a machine, leased; None where there is nothing to do."""
    run_id = queue.choose(conn, machine_id, at=at)
    if run_id is None:
        return None
    lease = secrets.token_hex(16)
    run = leases.lease(conn, run_id, lease, until=at + LEASE_SECONDS)
    events.publish(conn, EventKind.RUN, at=at, machine_id=machine_id, run_id=run.id)
    if why := _why_no_volume(conn, run) or _why_otherwise(conn, run):
        give_up(conn, run, RunState.FAILED, why, at=at)
        return offer(conn, machine_id, at=at)
    if run.work in ("put back", "let go"):
        return _held_order(conn, run, lease)
    if run.work == "check" and run.routine_id is None:
        keys, modes = runs.checks_of(conn, run.id), runs.modes_of(conn, run.id)
        return check_order(conn, run, keys, modes, lease, None)
    if run.action is not None:
        return ActOrder(
            run_id=run.id, lease=lease, action=run.action,
            earlier=step_lengths.earlier(conn, machine_id, run.action.action),
            # asked for earlier, it may have been found out since
            protect_findings=why_stopped(conn, machine_id, run.action)[:500],
        )  # fmt: skip
    if run.work == "look at settings":
        return ReadSettingsOrder(run_id=run.id, lease=lease)
    if run.work in ("change settings", "put settings back"):
        return _settings_order(conn, run, lease)
    end_by = queue.end_by(conn, run, at=at)
    ends = None if end_by is None else from_seconds(end_by)
    begun = checklist.begin_part(conn, run, end_by, at=at)
    if run.routine_id is not None and not begun:
        # what was left was left out beforehand
        checklist.go_on(conn, run, at=at)
        return offer(conn, machine_id, at=at)
    part = {step.kind for step in begun}
    compares = any(step.kind is StepKind.COMPARE for step in checklist.of(conn, run))
    snapshot = compares and snapshots.comparison(conn, run.id) is None
    if len(begun) == 1:
        order = order_of(conn, run, begun[0].kind, lease, ends, snapshot=snapshot)
        if order is not None:
            return order
    if StepKind.TUNE in part:
        goes = tuning.unattended(conn, machine_id)
        return _change_order(conn, run, lease, goes.wanted, goes.values)
    newest = surveys.newest(conn, machine_id)
    expect = None
    if newest:
        lines = (line for line in newest.lines if run.volumes.covers(line.mount))
        expect = sum((line.total for line in lines), Tally())
    look = tuple(
        CategoryRule(category=key, rule=rule)
        for key, rule in rules.in_force_on(conn, machine_id).items()
    )
    protect = _protect(conn, machine_id)
    runs.note_protect_digest(conn, run.id, judgement.protect_digest(protect))
    if run.work == "survey" or (part and StepKind.CLEAN not in part):
        return SurveyOrder(
            run_id=run.id,
            lease=lease,
            rules=look,
            protect=protect,
            volumes=run.volumes,
            expected=expect,
            end_by=ends,
            settings=True,
            snapshot=snapshot,
        )
    agreed = tuple(
        AgreedListing(category=consent.category, consent_id=consent.id, items=tuple(items))
        for consent, items in consents.agreed(conn, run.id)
    )
    listed = {listing.category for listing in agreed}
    standing = consents.standing_categories(conn, machine_id) - listed
    asked_by = runs.asked_by(conn, run.id)
    return CleanOrder(
        run_id=run.id,
        lease=lease,
        rules=look,
        protect=protect,
        volumes=run.volumes,
        # what has no yes is only looked at; its listing then waits for one
        clean=tuple(
            key
            for key in run.categories
            if catalogue()[key].caution is Caution.SAFE or key in listed or key in standing
        ),
        standing=tuple(key for key in run.categories if key in standing),
        agreed=agreed,
        survey_first=StepKind.SURVEY in part if part else run.survey_id is None,
        expected=expect,
        expected_removed=run.expected,
        end_by=ends,
        settings=any(step.kind is StepKind.TUNE for step in checklist.of(conn, run)),
        snapshot=snapshot,
        shown_under=None if asked_by is None else surveys.conditions(conn, asked_by),
    )


def _why_no_volume(conn: Connection, run: Run) -> str:
    """What is wrong with the volumes that somebody chose on this machine, where they were not known
    when they were chosen. Of many machines not every one has all of them."""
    if run.volumes.is_all or run.routine_id is not None:
        return ""
    return run.volumes.why_not(shop.mounts(conn, [run.machine_id]).get(run.machine_id, []))


def _why_otherwise(conn: Connection, run: Run) -> str:
    """What somebody was asked about before a cleaning and is otherwise by now; empty: nothing."""
    survey_id = runs.asked_by(conn, run.id)
    if survey_id is None or run.started_at is not None:
        return ""
    why = judgement.why_otherwise(conn, run.machine_id, survey_id, run.categories)
    return why and f"changed since it was asked: {why}. Nothing was cleaned; survey again"


def _protect(conn: Connection, machine_id: int) -> tuple[ProtectEntry, ...]:
    return tuple(listed.entry for listed in protections.in_force_on(conn, machine_id))


def _change_order(
    conn: Connection,
    run: Run,
    lease: str,
    wanted: tuple[Wanted, ...],
    values: tuple[WantedValue, ...],
) -> ChangeSettingsOrder:
    return ChangeSettingsOrder(
        run_id=run.id,
        lease=lease,
        wanted=wanted,
        values=values,
        protect=_protect(conn, run.machine_id),
    )


def _held_order(conn: Connection, run: Run, lease: str) -> HeldOrder:
    asked = runs.held_picks(conn, run.id)
    return HeldOrder(
        kind="put back" if run.work == "put back" else "let go",
        run_id=run.id,
        lease=lease,
        picks=tuple(holds.chosen(conn, pick)[0] for pick in asked.picks),
        if_taken=asked.if_taken,
        expected=run.expected,
    )


def _settings_order(
    conn: Connection, run: Run, lease: str
) -> ChangeSettingsOrder | PutSettingsBackOrder:
    picks = runs.settings_picks(conn, run.id)
    if run.work == "change settings":
        return _change_order(conn, run, lease, picks.wanted, picks.values)
    return PutSettingsBackOrder(run_id=run.id, lease=lease, changes=picks.changes)
