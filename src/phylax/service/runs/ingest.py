"""Taking in what agents report: readings, listings, surveys, what is held, results, progress."""

from __future__ import annotations

from datetime import timedelta
from sqlite3 import Connection
from typing import assert_never

from phylax.core.checks.time_left import Ran
from phylax.core.ground.events import EventKind
from phylax.core.ground.readings import by_volume
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.protocol import (
    LEASE_SECONDS,
    ActionMessage,
    ChangesMessage,
    CheckedMessage,
    HeldMessage,
    InventoryMessage,
    LeasedProgress,
    ListingMessage,
    Message,
    ReadingsMessage,
    RestoredMessage,
    ResultMessage,
    SettingsMessage,
    SnapshotMessage,
    StartsMessage,
    SurveyMessage,
    SurveyPartMessage,
    UnheldMessage,
)
from phylax.core.record.records import Entry, RecordKind
from phylax.core.retention import Scope
from phylax.core.runs.runs import (
    Run,
    RunState,
    conclude,
    in_a_sentence,
    tuned_in_words,
    with_part,
    with_steps,
)
from phylax.core.scheduling.routines import StepKind
from phylax.core.survey import Ledger, Survey, SurveyKind, ledger
from phylax.service.problems import Problem
from phylax.service.runs import (
    availability,
    carry_forward,
    checklist,
    queue,
)
from phylax.service.runs import (
    rollback as set_back,
)
from phylax.service.runs.carry_forward import Carried
from phylax.service.runs.create import expected_to_go
from phylax.service.runs.finish import write_down
from phylax.service.runs.reading_messages import Prepared, prepared
from phylax.service.tuning import settings_ingest
from phylax.service.upkeep import advising, checked, telling
from phylax.store.attention import attention_inputs
from phylax.store.clients import agents
from phylax.store.file import events
from phylax.store.record import records
from phylax.store.retention import consents, protections
from phylax.store.runs import holds, leases, runs, step_lengths
from phylax.store.survey import profiles, repeat_leftovers, surveys
from phylax.store.trends import outlooks, readings

_LISTINGS_LAST = int(timedelta(days=30).total_seconds())
"""A month for a yes; after that a machine should be looked at anew."""


def apply(
    conn: Connection,
    machine_id: int,
    message: Message,
    *,
    at: int,
    age: float | None = None,
    ready: Prepared | None = None,
    carried_over: Carried | None = None,
) -> None:
    """Apply an agent's message, once however often it is sent.

    `age` is how many seconds ago it was written, by the machine's running time, where known. Of a
    survey `carried_over` is what it was completed with, `ready` what was worked out of it then.
    """
    if not agents.first_time(conn, machine_id, message.id, at=at):
        return
    message = availability.by_our_clock(conn, machine_id, message, at=at, age=age)
    match message:
        case ReadingsMessage():
            # presence knows hours only
            moments = {at // 3600 * 3600 for volume in message.volumes for at in volume.at}
            availability.heard_of(conn, machine_id, at=at, moments=moments)
            _take_readings(conn, machine_id, message, at=at)
            return
    availability.heard_of(conn, machine_id, at=at)
    match message:
        case ListingMessage():
            run = _own_run(conn, machine_id, message.run_id)
            survey_id = surveys.begun(conn, machine_id, run.id, message.survey_kind, at=at)
            surveys.add_items(
                conn, survey_id, message.category, message.first_number, message.items
            )
        case SurveyPartMessage():
            _add_part(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case SurveyMessage():
            run = _own_run(conn, machine_id, message.run_id)
            _finish_survey(conn, run, message, ready, carried_over, at=at)
        case HeldMessage():
            # told again after the records were set back, it may be of a run that they do not know
            known = runs.is_of(conn, message.run_id, machine_id)
            holds.take(conn, machine_id, message, message.run_id if known else None)
            events.publish(conn, EventKind.HOLD, at=at, machine_id=machine_id)
        case UnheldMessage():
            left: int | None = 0
            while left is not None:
                left = holds.end(conn, machine_id, message, begin=left)
            events.publish(conn, EventKind.HOLD, at=at, machine_id=machine_id)
        case SettingsMessage():
            _own_run(conn, machine_id, message.run_id)
            settings_ingest.take_look(conn, machine_id, message, at=at)
        case ChangesMessage():
            run = _own_run(conn, machine_id, message.run_id)
            settings_ingest.take_changes(conn, run, message, at=at)
        case CheckedMessage():
            checked.take(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case InventoryMessage():
            run = _own_run(conn, machine_id, message.run_id)
            telling.take_inventory(conn, run, message, at=at)
        case ActionMessage():
            telling.take_acted(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case SnapshotMessage():
            run = _own_run(conn, machine_id, message.run_id)
            telling.take_snapshot(conn, run, message, at=at)
        case StartsMessage():
            settings_ingest.take_starts(conn, machine_id, message, at=at)
        case RestoredMessage():
            set_back.take(conn, machine_id, message, at=at)
        case ResultMessage():
            _finish_run(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case _:
            assert_never(message)


def end_some(
    conn: Connection,
    machine_id: int,
    message: UnheldMessage,
    *,
    at: int,
    age: float | None,
    begin: int,
) -> int | None:
    """What is held no longer from a number on, as much as is written in a moment; the number from
    which to go on, None where no more is left than `apply` does. Done again, it does nothing."""
    if agents.is_known(conn, machine_id, message.id):
        return None
    told = availability.by_our_clock(conn, machine_id, message, at=at, age=age)
    assert isinstance(told, UnheldMessage)
    return holds.end(conn, machine_id, told, begin=begin)


def _take_readings(conn: Connection, machine_id: int, message: ReadingsMessage, *, at: int) -> None:
    readings.add(conn, machine_id, message.volumes, of_all_volumes=True)
    if message.awake is not None:
        availability.told_awake(conn, machine_id, message.awake, at=at)
    newest: dict[str, tuple[int, float]] = {}
    for series in message.volumes:
        at_last, free_then = max(zip(series.at, series.free, strict=True))
        if series.capacity and at_last >= newest.get(series.mount, (0, 0.0))[0]:
            newest[series.mount] = at_last, 100 * free_then / series.capacity
    free = {mount: share for mount, (_, share) in newest.items()}
    if free and min(free.values()) < 50:
        queue.make_under_pressure(conn, machine_id, free, at=at)
    events.publish(conn, EventKind.READING, at=at, machine_id=machine_id)


def take_progress(
    conn: Connection, machine_id: int, run_id: int, progress: LeasedProgress, *, at: int
) -> bool:
    """How far a run is; keeps the lease. Whether the agent is to go on."""
    until = at + LEASE_SECONDS
    go_on = leases.hold_lease(
        conn, machine_id, run_id, progress.lease, progress.progress, at=at, until=until
    )
    if go_on:
        checklist.note_progress(conn, run_id, progress.progress.step, at=at)
    availability.heard_of(conn, machine_id, at=at)
    events.publish(conn, EventKind.RUN, at=at, machine_id=machine_id, run_id=run_id)
    return go_on


def _own_run(conn: Connection, machine_id: int, run_id: int) -> Run:
    run = runs.run(conn, run_id)
    if run is None or run.machine_id != machine_id:
        raise Problem(422, "not-your-run", f"Run {run_id} is not this machine's.")
    return run


def _add_part(conn: Connection, run: Run, message: SurveyPartMessage, *, at: int) -> None:
    """Lines of a survey that goes on, for people to see; a run that has ended gets no more."""
    if run.state.has_ended:
        return
    started = to_seconds(message.started_at)
    survey_id = surveys.begun(conn, run.machine_id, run.id, message.survey_kind, at=started)
    surveys.add_part(conn, survey_id, message.lines)
    if run.work == "survey":
        runs.note_look(conn, run.id, survey_id, None, second=False)
    events.publish(conn, EventKind.SURVEY, at=at, machine_id=run.machine_id, run_id=run.id)


def _finish_survey(
    conn: Connection,
    run: Run,
    message: SurveyMessage,
    ready: Prepared | None,
    carried_over: Carried | None,
    *,
    at: int,
) -> None:
    newest_id = surveys.newest_id(conn, run.machine_id)
    if ready is None or (carried_over and carried_over.before_id != newest_id):
        # another survey came between its preparation and now
        own = tuple(line for line in message.lines if line.surveyed_at is None)
        message = message.model_copy(update={"lines": own})
        carried_over = carry_forward.carried(conn, run.machine_id, message)
        message = carry_forward.completed(message, carried_over)
        ready = prepared(message)
    survey_id = surveys.begun(conn, run.machine_id, run.id, message.survey_kind, at=at)
    carry_forward.write(conn, survey_id, carried_over)
    started, ended = to_seconds(message.started_at), to_seconds(message.ended_at)
    surveys.finish(
        conn, survey_id, ready.lines_json, message.conditions, started=started, ended=ended
    )
    survey = Survey(
        id=survey_id,
        machine_id=run.machine_id,
        run_id=run.id,
        kind=message.survey_kind,
        started_at=from_seconds(started),
        ended_at=from_seconds(ended),
        lines=message.lines,
    )
    summed = ready.summed.model_copy(
        update={
            "survey_id": survey.id, "machine_id": survey.machine_id, "taken_at": survey.ended_at,
        }
    )  # fmt: skip
    is_newest = surveys.becomes_newest(conn, survey, summed.removable, _waiting(conn, summed))
    outlooks.note_survey(
        conn,
        summed,
        second=message.survey_kind is SurveyKind.SECOND,
        at=to_seconds(message.ended_at),
        is_newest=is_newest,
    )
    if is_newest:
        profiles.replace(conn, survey, ready.packed_lines)
        advising.propose(conn, run.machine_id, at=at)
        attention_inputs.note_kept_young(conn, survey)
        if message.covers is not None:
            ended = to_seconds(message.ended_at)
            in_force = {listed.entry for listed in protections.in_force_on(conn, run.machine_id)}
            covers = [cover for cover in message.covers if cover.entry in in_force]
            protections.note_covers(conn, run.machine_id, covers, at=ended)
        surveys.forget_listings(conn, run.machine_id, before=at - _LISTINGS_LAST)
    listed = {consent.category for consent, _ in consents.agreed(conn, run.id)}
    standing = consents.standing_categories(conn, run.machine_id) - listed
    by_rule = ledger(survey, standing) if standing else summed
    expected = None
    if run.work == "clean":
        expected = expected_to_go(by_rule, run.categories, run.volumes)
    runs.note_look(
        conn, run.id, survey_id, expected, second=message.survey_kind is SurveyKind.SECOND
    )
    events.publish(conn, EventKind.SURVEY, at=at, machine_id=run.machine_id, run_id=run.id)


def _waiting(conn: Connection, summed: Ledger) -> Tally:
    """What needs approval: what somebody's rule proposes, and no standing consent covers.

    What the catalogue alone proposes is there to be chosen, but nobody asked for it.
    """
    standing = consents.standing_categories(conn, summed.machine_id)
    return sum(
        (
            line.needs_approval
            for line in summed.lines
            if line.category not in standing and line.rule.source is not Scope.CATALOGUE
        ),
        Tally(),
    )


def _finish_run(conn: Connection, run: Run, result: ResultMessage, *, at: int) -> None:
    readings.add(conn, run.machine_id, by_volume((*result.before, *result.after)))
    conclusion = conclude(result)
    if run.work not in ("clean", "let go", "by hand"):
        # none of these frees anything; what the volumes show is others' doing
        conclusion = conclusion.model_copy(update={"freed": None})
    if conclusion.state is RunState.CALLED_OFF:
        reason = f"called off by {leases.stop_asked_by(conn, run.id) or 'the machine'}"
        conclusion = conclusion.model_copy(update={"reason": reason})
    ended = to_seconds(result.ended_at)
    alone = checklist.alone_under_way(conn, run)
    if run.work == "clean" and result.outcomes and not run.state.has_ended:
        outlooks.note_cleaning(conn, run, result, at=ended)
    worked = max(1, ended - to_seconds(result.started_at))
    went_well = conclusion.state in (RunState.DONE, RunState.PARTLY) and not result.timed_out
    if run.routine_id is not None and not run.state.has_ended:
        word, refused = "", False
        if alone is StepKind.TUNE:
            word = tuned_in_words(conclusion)
        elif alone is not None and went_well:
            word = telling.step_in_words(conn, run, alone)[:500]
            refused = telling.was_refused(conn, run, alone)
            if why := checked.why_to_stop(conn, run.id):
                checklist.leave_out_rest(conn, run, why, at=ended)
        if alone is not None and went_well and not alone.action:
            seconds = telling.believed_length(run, float(worked), at=at)
            step_lengths.note(conn, run.machine_id, alone.length_key, Ran(0, seconds))
        if checklist.end_part(conn, run, went_well=went_well, at=ended, word=word, refused=refused):
            by_hand = checklist.next_is_by_hand(conn, run)
            kept = result if run.work == "clean" and result.passes else None
            runs.end_part(conn, run.id, worked=worked, at_hand=by_hand, result=kept)
            events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)
            return
        kept = runs.kept_result(conn, run.id) if alone is not None else None
        if alone is not None and not alone.checks:
            conclusion = with_part(conclude(kept) if kept else None, conclusion)
        if kept is not None:
            result = kept
        if went_well:
            conclusion = with_steps(conclusion, checklist.of(conn, run))
    ending = runs.Ending(conclusion.state, conclusion.reason, result, conclusion, worked=worked)
    if runs.end(conn, run.id, ending, at=ended):
        write_down(conn, run, conclusion, at=ended)
        if went_well:
            checklist.note_length(conn, run)
        if run.work == "clean" and not (result.cancelled or result.error):
            repeat_leftovers.note(
                conn, run.machine_id, run.id, run.categories, result.left,
                all_named=len(result.left) == sum(
                    stay.count for stay in conclusion.left if stay.reason.should_have_gone
                ),
                at=ended,
            )  # fmt: skip
        events.publish(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)
        return
    # The run was given up here while the machine still worked; what it did is written down.
    sentence = in_a_sentence(run.work, conclusion, run.action, run.volumes)
    text = f"Reported late for run {run.id}: {sentence}"
    records.append(
        conn,
        Entry(
            machine_id=run.machine_id,
            at=from_seconds(at),
            who=run.made_by,
            kind=RecordKind.NOTE,
            text=text,
            freed=conclusion.freed,
        ),
    )
