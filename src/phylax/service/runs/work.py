"""Work on machines: runs are made, ordered, reported on and ended here, each with its record."""

from __future__ import annotations

import secrets
from datetime import timedelta
from typing import assert_never

from phylax.core.catalogue import catalogue
from phylax.core.events import EventKind
from phylax.core.holds import HeldPicks
from phylax.core.orders import (
    LEASE_SECONDS,
    AgreedListing,
    CategoryRule,
    CleanOrder,
    HeldMessage,
    HeldOrder,
    LeasedProgress,
    ListingMessage,
    Message,
    Order,
    ReadingsMessage,
    ResultMessage,
    SetBackMessage,
    SurveyMessage,
    SurveyOrder,
    SurveyPartMessage,
    UnheldMessage,
)
from phylax.core.records import Entry, RecordKind
from phylax.core.retention import Caution, Scope
from phylax.core.routines import Routine, StepKind
from phylax.core.runs import (
    NewRoutineRuns,
    NewRun,
    Run,
    RunState,
    conclude,
    failed_categories,
    in_a_sentence,
    with_steps,
    work_of,
)
from phylax.core.shop import by_volume
from phylax.core.survey import Ledger, Look, Tally, ledger
from phylax.core.values import from_seconds, to_seconds
from phylax.service.problems import Problem, invalid, not_found
from phylax.service.runs import availability, checklist, queue, set_back
from phylax.service.runs.finish import write_down
from phylax.store import (
    agents,
    consents,
    holds,
    journal,
    left_again,
    outlooks,
    profiles,
    protections,
    readings,
    records,
    routines,
    rules,
    runs,
    shop,
    surveys,
)
from phylax.store import standing as standings
from phylax.store.database import Connection

_LISTINGS_LAST = int(timedelta(days=30).total_seconds())
"""A month for a yes; after that a machine should be looked at anew."""


def make(conn: Connection, new: NewRun, *, who: str, at: int) -> Run:
    """A run that a person asked for; problems say what is missing."""
    if shop.machine(conn, new.machine_id) is None:
        raise not_found("machine", new.machine_id)
    if new.held:
        return _make_held(conn, new, who=who, at=at)
    for key in new.categories:
        if key not in catalogue():
            raise invalid("/categories", f"no category {key!r}; there are {', '.join(catalogue())}")
    agreed = _check_consents(conn, new, at)
    survey = surveys.newest(conn, new.machine_id) if new.work == "clean" else None
    chosen = (consents.consent(conn, consent_id) for consent_id in new.consent_ids)
    listed = {consent.category for consent in chosen if consent}
    standing = consents.standing_categories(conn, new.machine_id) - listed
    promised = _promised(ledger(survey, standing), new.categories) if survey else None
    expected = promised and promised + agreed
    run_id = runs.add(
        conn,
        new.machine_id,
        new.work,
        new.categories,
        who=who,
        at=at,
        survey_id=survey.id if survey else None,
        expected=expected,
    )
    assert run_id is not None
    for consent_id in new.consent_ids:
        consents.use(conn, consent_id, run_id)
    if new.consent_ids:
        surveys.no_longer_waits(conn, new.machine_id)
    made = runs.run(conn, run_id)
    assert made is not None
    journal.tell(conn, EventKind.RUN, at=at, machine_id=made.machine_id, run_id=made.id)
    return made


def make_routines(
    conn: Connection, routine: Routine, new: NewRoutineRuns, *, who: str, at: int
) -> list[Run]:
    """A routine once, on each of the machines; problems where one is not known."""
    known = {m.id for m in shop.described(conn) if m.id in set(new.machine_ids)}
    if missing := [m for m in new.machine_ids if m not in known]:
        raise invalid("/machine_ids", f"there is no machine {missing[0]}")
    what, categories = work_of(routine.steps)
    made = []
    for machine_id in new.machine_ids:
        run_id = runs.add(
            conn,
            machine_id,
            what,
            categories,
            who=who,
            at=at,
            routine=(routine.id, routine.version),
            on_bench=new.on_bench,
            takes=routines.takes_on(conn, routine.id, machine_id),
        )
        assert run_id is not None
        if not routine.steps[0].kind.by_agent:
            runs.wait_by_hand(conn, run_id)
        made.append(_told(conn, run_id, at))
    return made


def again(conn: Connection, run_id: int, *, who: str, at: int) -> Run:
    """What failed of a run, once more: all of it where nothing was done."""
    run = runs.detail(conn, run_id)
    if run is None:
        raise not_found("run", run_id)
    if not run.state.has_ended or run.state is RunState.DONE:
        raise Problem(409, "nothing-failed", f"Run {run_id} is {run.state}: nothing to do again.")
    if run.work in ("put back", "let go"):
        raise Problem(409, "choose-again", "Choose anew what to put back or let go.")
    rest = failed_categories(run) if run.work == "clean" else None
    if rest is None and run.routine_id is not None and run.routine_version is not None:
        routine = routines.routine(conn, run.routine_id, run.routine_version)
        assert routine is not None
        new = NewRoutineRuns(machine_ids=(run.machine_id,), on_bench=run.on_bench)
        return make_routines(conn, routine, new, who=who, at=at)[0]
    categories = run.categories if rest is None else rest
    if run.work == "clean" and not categories:
        raise Problem(
            409, "nothing-failed", f"Every category of run {run_id} was gone through; "
            "a step by hand is left out of the agent's doing again.",
        )  # fmt: skip
    # what has no yes is looked at and waits for one, as in a round
    run_again = runs.add(conn, run.machine_id, run.work, categories, who=who, at=at)
    assert run_again is not None
    return _told(conn, run_again, at)


def _told(conn: Connection, run_id: int, at: int) -> Run:
    made = runs.run(conn, run_id)
    assert made is not None
    journal.tell(conn, EventKind.RUN, at=at, machine_id=made.machine_id, run_id=made.id)
    return made


def _make_held(conn: Connection, new: NewRun, *, who: str, at: int) -> Run:
    """A run that puts held things back, or lets them go before their time."""
    expected, categories = Tally(), []
    for number, pick in enumerate(new.held):
        hold = holds.hold(conn, pick.hold_id)
        if hold is None or hold.machine_id != new.machine_id:
            raise invalid(f"/held/{number}/hold_id", f"hold {pick.hold_id} is not this machine's")
        _, chosen = holds.chosen(conn, pick)
        if not chosen.count:
            raise invalid(
                f"/held/{number}",
                f"nothing that was chosen of hold {pick.hold_id} is held any more",
            )
        expected += chosen
        categories.append(hold.category)
    run_id = runs.add(
        conn,
        new.machine_id,
        new.work,
        tuple(dict.fromkeys(categories)),
        who=who,
        at=at,
        expected=expected,
        held_picks=HeldPicks(picks=new.held, if_taken=new.if_taken),
    )
    assert run_id is not None
    made = runs.run(conn, run_id)
    assert made is not None
    journal.tell(conn, EventKind.RUN, at=at, machine_id=made.machine_id, run_id=made.id)
    return made


def _check_consents(conn: Connection, new: NewRun, at: int) -> Tally:
    """The sum agreed to; every `ask` category must have its yes, every yes its category."""
    agreed: dict[str, Tally] = {}
    for consent_id in new.consent_ids:
        consent = consents.consent(conn, consent_id)
        if consent is None or consent.machine_id != new.machine_id:
            raise invalid("/consent_ids", f"consent {consent_id} is not for this machine")
        if consent.used_by_run is not None:
            raise invalid("/consent_ids", f"consent {consent_id} was acted on already")
        if to_seconds(consent.expires_at) < at:
            raise invalid("/consent_ids", f"consent {consent_id} has expired; ask again")
        agreed[consent.category] = Tally(count=consent.items, size=consent.size)
    standing = consents.standing_categories(conn, new.machine_id)
    for key in new.categories:
        caution = catalogue()[key].caution
        if caution is Caution.REPORT:
            raise invalid("/categories", f"{key} is only ever listed; a person deals with it")
        if caution is Caution.ASK and key not in agreed and key not in standing:
            raise invalid(
                "/consent_ids", f"{key} needs a person's yes to its listing; give consent first"
            )
    for key in agreed:
        if key not in new.categories:
            raise invalid(
                "/categories", f"there is a consent for {key}, which is not to be cleaned"
            )
    return sum(agreed.values(), Tally())


def _promised(found: Ledger, categories: tuple[str, ...]) -> Tally:
    """What goes of some categories by their rules, without another yes."""
    return sum(
        (
            line.needs_yes if line.standing else line.goes
            for line in found.lines
            if line.category in categories
        ),
        Tally(),
    )


def offer(conn: Connection, machine_id: int, *, at: int) -> Order | None:
    """The next order for a machine, leased; None where there is nothing to do."""
    run_id = queue.choose(conn, machine_id, at=at)
    if run_id is None:
        return None
    lease = secrets.token_hex(16)
    run = runs.lease(conn, run_id, lease, until=at + LEASE_SECONDS)
    journal.tell(conn, EventKind.RUN, at=at, machine_id=machine_id, run_id=run.id)
    if run.work in ("put back", "let go"):
        return _held_order(conn, run, lease)
    part = {step.kind for step in checklist.begin_part(conn, run, at=at)}
    end_by = queue.end_by(conn, run, at=at)
    ends = None if end_by is None else from_seconds(end_by)
    newest = surveys.newest(conn, machine_id)
    expect = sum((line.holds for line in newest.lines), Tally()) if newest else None
    look = tuple(
        CategoryRule(category=key, rule=rule)
        for key, rule in rules.in_force_on(conn, machine_id).items()
    )
    protect = tuple(one.entry for one in protections.in_force_on(conn, machine_id))
    if run.work == "survey" or (part and StepKind.CLEAN not in part):
        return SurveyOrder(
            run_id=run.id, lease=lease, look=look, protect=protect, expect=expect, end_by=ends
        )
    agreed = tuple(
        AgreedListing(category=consent.category, consent_id=consent.id, items=tuple(items))
        for consent, items in consents.agreed(conn, run.id)
    )
    listed = {listing.category for listing in agreed}
    standing = consents.standing_categories(conn, machine_id) - listed
    return CleanOrder(
        run_id=run.id,
        lease=lease,
        look=look,
        protect=protect,
        # what has no yes is only looked at; its listing then waits for one
        clean=tuple(
            key
            for key in run.categories
            if catalogue()[key].caution is Caution.SAFE or key in listed or key in standing
        ),
        standing=tuple(key for key in run.categories if key in standing),
        agreed=agreed,
        look_first=StepKind.SURVEY in part if part else run.survey_id is None,
        expect=expect,
        expect_gone=run.expected,
        end_by=ends,
    )


def _held_order(conn: Connection, run: Run, lease: str) -> HeldOrder:
    asked = runs.held_picks(conn, run.id)
    return HeldOrder(
        kind="put back" if run.work == "put back" else "let go",
        run_id=run.id,
        lease=lease,
        picks=tuple(holds.chosen(conn, pick)[0] for pick in asked.picks),
        if_taken=asked.if_taken,
        expect=run.expected,
    )


def apply(
    conn: Connection, machine_id: int, message: Message, *, at: int, age: float | None = None
) -> None:
    """Apply an agent's message, once however often it is sent.

    `age` is how many seconds ago it was written, by the machine's running time, where known.
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
            survey_id = surveys.begun(conn, machine_id, run.id, message.look, at=at)
            surveys.add_items(
                conn, survey_id, message.category, message.first_number, message.items
            )
        case SurveyPartMessage():
            _add_part(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case SurveyMessage():
            _finish_survey(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case HeldMessage():
            # told again after the records were set back, it may be of a run that they do not know
            known = runs.is_of(conn, message.run_id, machine_id)
            holds.take(conn, machine_id, message, message.run_id if known else None)
            journal.tell(conn, EventKind.HOLD, at=at, machine_id=machine_id)
        case UnheldMessage():
            holds.end(conn, machine_id, message)
            journal.tell(conn, EventKind.HOLD, at=at, machine_id=machine_id)
        case SetBackMessage():
            set_back.told(conn, machine_id, message, at=at)
        case ResultMessage():
            _finish_run(conn, _own_run(conn, machine_id, message.run_id), message, at=at)
        case _:
            assert_never(message)


def _take_readings(conn: Connection, machine_id: int, message: ReadingsMessage, *, at: int) -> None:
    readings.add(conn, machine_id, message.volumes, of_all_volumes=True)
    if message.awake is not None:
        availability.told_awake(conn, machine_id, message.awake, at=at)
    newest: dict[str, tuple[int, float]] = {}
    for one in message.volumes:
        at_last, free_then = max(zip(one.at, one.free, strict=True))
        if one.capacity and at_last >= newest.get(one.mount, (0, 0.0))[0]:
            newest[one.mount] = at_last, 100 * free_then / one.capacity
    free = [share for _, share in newest.values()]
    if free and min(free) < 50:
        queue.make_under_pressure(conn, machine_id, min(free), at=at)
    journal.tell(conn, EventKind.READING, at=at, machine_id=machine_id)


def take_progress(
    conn: Connection, machine_id: int, run_id: int, told: LeasedProgress, *, at: int
) -> bool:
    """How far a run is; keeps the lease. Whether the agent is to go on."""
    until = at + LEASE_SECONDS
    go_on = runs.hold_lease(conn, machine_id, run_id, told.lease, told.progress, at=at, until=until)
    if go_on:
        checklist.note_progress(conn, run_id, told.progress.step, at=at)
    availability.heard_of(conn, machine_id, at=at)
    journal.tell(conn, EventKind.RUN, at=at, machine_id=machine_id, run_id=run_id)
    return go_on


def _own_run(conn: Connection, machine_id: int, run_id: int) -> Run:
    run = runs.run(conn, run_id)
    if run is None or run.machine_id != machine_id:
        raise Problem(422, "not-your-run", f"Run {run_id} is not this machine's.")
    return run


def _add_part(conn: Connection, run: Run, message: SurveyPartMessage, *, at: int) -> None:
    """Lines of a look that goes on, for people to see; a run that has ended gets no more."""
    if run.state.has_ended:
        return
    started = to_seconds(message.started_at)
    survey_id = surveys.begun(conn, run.machine_id, run.id, message.look, at=started)
    surveys.add_part(conn, survey_id, message.lines)
    if run.work == "survey":
        runs.note_look(conn, run.id, survey_id, None, second=False)
    journal.tell(conn, EventKind.SURVEY, at=at, machine_id=run.machine_id, run_id=run.id)


def _finish_survey(conn: Connection, run: Run, message: SurveyMessage, *, at: int) -> None:
    survey_id = surveys.begun(conn, run.machine_id, run.id, message.look, at=at)
    survey = surveys.finish(
        conn,
        survey_id,
        message.lines,
        started=to_seconds(message.started_at),
        ended=to_seconds(message.ended_at),
    )
    found = ledger(survey)
    is_newest = surveys.becomes_newest(conn, survey, found.goes, _waiting(conn, found))
    outlooks.note_survey(
        conn,
        found,
        second=message.look is Look.SECOND,
        at=to_seconds(message.ended_at),
        is_newest=is_newest,
    )
    if is_newest:
        profiles.replace(conn, survey)
        standings.note_kept_young(conn, survey)
        if message.covers is not None:
            ended = to_seconds(message.ended_at)
            in_force = {one.entry for one in protections.in_force_on(conn, run.machine_id)}
            covers = [one for one in message.covers if one.entry in in_force]
            protections.note_covers(conn, run.machine_id, covers, at=ended)
        surveys.forget_listings(conn, run.machine_id, before=at - _LISTINGS_LAST)
    listed = {consent.category for consent, _ in consents.agreed(conn, run.id)}
    standing = consents.standing_categories(conn, run.machine_id) - listed
    by_rule = ledger(survey, standing)
    expected = _promised(by_rule, run.categories) if run.work == "clean" else None
    runs.note_look(conn, run.id, survey_id, expected, second=message.look is Look.SECOND)
    journal.tell(conn, EventKind.SURVEY, at=at, machine_id=run.machine_id, run_id=run.id)


def _waiting(conn: Connection, found: Ledger) -> Tally:
    """What waits for a yes: what somebody's rule proposes, and no standing consent covers.

    What the catalogue alone proposes is there to be chosen, but nobody asked for it.
    """
    standing = consents.standing_categories(conn, found.machine_id)
    return sum(
        (
            line.needs_yes
            for line in found.lines
            if line.category not in standing and line.rule.source is not Scope.CATALOGUE
        ),
        Tally(),
    )


def _finish_run(conn: Connection, run: Run, result: ResultMessage, *, at: int) -> None:
    readings.add(conn, run.machine_id, by_volume((*result.before, *result.after)))
    conclusion = conclude(result)
    if run.work in ("survey", "put back"):
        # neither frees anything; what the volumes show is others' doing
        conclusion = conclusion.model_copy(update={"freed": None})
    if conclusion.state is RunState.CALLED_OFF:
        reason = f"called off by {runs.stop_asked_by(conn, run.id) or 'the machine'}"
        conclusion = conclusion.model_copy(update={"reason": reason})
    ended = to_seconds(result.ended_at)
    if run.work == "clean" and result.outcomes:
        outlooks.note_cleaning(conn, run.machine_id, run.id, result, at=ended)
    worked = max(1, ended - to_seconds(result.started_at))
    went_well = conclusion.state in (RunState.DONE, RunState.PARTLY) and not result.out_of_time
    if run.routine_id is not None and not run.state.has_ended:
        if checklist.end_part(conn, run, went_well=went_well, at=ended):
            by_hand = checklist.next_is_by_hand(conn, run)
            kept = result if run.work == "clean" and result.passes else None
            runs.end_part(conn, run.id, worked=worked, at_hand=by_hand, result=kept)
            journal.tell(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)
            return
        if went_well:
            conclusion = with_steps(conclusion, checklist.of(conn, run))
    if runs.end(
        conn, run.id, conclusion.state, conclusion.reason, at=ended, result=result,
        conclusion=conclusion, worked=worked,
    ):  # fmt: skip
        write_down(conn, run, conclusion, at=ended)
        if went_well:
            checklist.note_length(conn, run)
        if run.work == "clean" and not (result.called_off or result.error):
            left_again.note(
                conn, run.machine_id, run.id, run.categories, result.left,
                all_named=len(result.left) == sum(
                    stay.count for stay in conclusion.left if stay.reason.should_have_gone
                ),
                at=ended,
            )  # fmt: skip
        journal.tell(conn, EventKind.RUN, at=at, machine_id=run.machine_id, run_id=run.id)
        return
    # The run was given up here while the machine still worked; what it did is written down.
    text = f"Reported late for run {run.id}: {in_a_sentence(run.work, conclusion)}"
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
