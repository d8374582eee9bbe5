"""Making runs: what is asked for is checked, and what it is expected to free is noted."""

from __future__ import annotations

from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.catalogue import catalogue, no_category
from phylax.core.clients.shop import Machine
from phylax.core.ground.events import EventKind
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import to_seconds
from phylax.core.ground.volumes import ALL_VOLUMES, VolumeChoice
from phylax.core.hold.holds import HeldPicks
from phylax.core.retention import Caution
from phylax.core.runs.runs import (
    NewRoutineRuns,
    NewRun,
    Run,
    RunState,
    SettingsPicks,
    WantedSetting,
    failed_categories,
    work_of,
)
from phylax.core.scheduling.routines import Routine
from phylax.core.survey import Ledger, ledger
from phylax.core.tuning.changes import ChangeState, Wanted, WantedValue
from phylax.service.problems import Problem, invalid, not_found
from phylax.service.runs import judgement
from phylax.service.runs.managed_check import check_in_care
from phylax.service.tuning.judging import judged_look
from phylax.service.upkeep.asking import check_may_act
from phylax.store.clients import shop
from phylax.store.file import events
from phylax.store.retention import consents
from phylax.store.runs import holds, runs
from phylax.store.scheduling import routines
from phylax.store.survey import surveys
from phylax.store.tuning import settings_changes


def make(conn: Connection, new: NewRun, *, who: str, at: int) -> Run:
    """A run that a person asked for; problems say what is missing."""
    check_in_care(conn, new.machine_id)
    if new.held:
        return _make_held(conn, new, who=who, at=at)
    if new.programs or new.values or new.changes:
        return _make_settings(conn, new, who=who, at=at)
    if new.action is not None:
        check_may_act(conn, new, at=at)
    for key in new.categories:
        if key not in catalogue():
            raise invalid("/categories", no_category(key))
    check_volumes(conn, "/volumes", new.volumes, [new.machine_id])
    agreed = _check_consents(conn, new, at)
    survey = surveys.newest(conn, new.machine_id) if new.work == "clean" else None
    chosen = (consents.consent(conn, consent_id) for consent_id in new.consent_ids)
    listed = {consent.category for consent in chosen if consent}
    standing = consents.standing_categories(conn, new.machine_id) - listed
    promised = None
    if survey:
        promised = expected_to_go(ledger(survey, standing), new.categories, new.volumes)
    expected = promised and promised + agreed
    if new.survey_id is not None:
        why = "a newer survey shows other figures"
        if survey is not None and survey.id == new.survey_id:
            why = judgement.why_otherwise(conn, new.machine_id, new.survey_id, new.categories)
        if why:
            raise Problem(
                409, "judged-otherwise", f"Changed since you were asked: {why}. "
                "Nothing was begun: survey again, then clean.",
            )  # fmt: skip
    waiting = runs.Waiting(
        new.machine_id,
        new.work,
        new.categories,
        who,
        survey_id=survey.id if survey else None,
        expected=expected,
        volumes=new.volumes,
        checks=new.checks,
        modes=dict(new.modes),
        action=new.action,
        due_at=None if new.at is None else to_seconds(new.at),
        settings=SettingsPicks(comment=new.comment) if new.action is not None else None,
        agreed_survey_id=new.survey_id,
    )
    run_id = runs.add(conn, waiting, at=at)
    assert run_id is not None
    for consent_id in new.consent_ids:
        consents.use(conn, consent_id, run_id)
    if new.consent_ids:
        surveys.no_longer_waits(conn, new.machine_id)
    return _told(conn, run_id, at)


def make_routines(
    conn: Connection, routine: Routine, new: NewRoutineRuns, *, who: str, at: int
) -> list[Run]:
    """A routine once, on each of the machines; problems where one is not known."""
    known = {m.id for m in shop.described(conn) if m.id in set(new.machine_ids)}
    if missing := [m for m in new.machine_ids if m not in known]:
        if shop.machine(conn, missing[0]) is not None:
            check_in_care(conn, missing[0])
        raise invalid("/machine_ids", f"there is no machine {missing[0]}")
    check_volumes(conn, "/volumes", new.volumes, new.machine_ids)
    what, categories = work_of(routine.steps)
    made = []
    for machine_id in new.machine_ids:
        waiting = runs.Waiting(
            machine_id,
            what,
            categories,
            who,
            routine=(routine.id, routine.version),
            volumes=new.volumes,
            on_bench=new.on_bench,
            expected_seconds=routines.takes_on(conn, routine.id, machine_id),
        )
        run_id = runs.add(conn, waiting, at=at)
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
    if run.work in ("put back", "let go", "change settings", "put settings back", "act"):
        raise Problem(409, "choose-again", "Choose anew what to do, change, put back or let go.")
    check_in_care(conn, run.machine_id)
    rest = failed_categories(run) if run.work == "clean" else None
    if rest is None and run.routine_id is not None and run.routine_version is not None:
        routine = routines.routine(conn, run.routine_id, run.routine_version)
        assert routine is not None
        new = NewRoutineRuns(
            machine_ids=(run.machine_id,), volumes=run.volumes, on_bench=run.on_bench
        )
        return make_routines(conn, routine, new, who=who, at=at)[0]
    categories = run.categories if rest is None else rest
    if run.work == "clean" and not categories:
        raise Problem(
            409, "nothing-failed", f"Every category of run {run_id} was gone through; "
            "a step by hand is left out of the agent's doing again.",
        )  # fmt: skip
    # what has no yes is looked at and waits for one, as in a round
    waiting = runs.Waiting(
        run.machine_id, run.work, categories, who, volumes=run.volumes,
        checks=runs.checks_of(conn, run.id), modes=runs.modes_of(conn, run.id),
    )  # fmt: skip
    run_again = runs.add(conn, waiting, at=at)
    assert run_again is not None
    return _told(conn, run_again, at)


def _told(conn: Connection, run_id: int, at: int) -> Run:
    made = runs.run(conn, run_id)
    assert made is not None
    events.publish(conn, EventKind.RUN, at=at, machine_id=made.machine_id, run_id=made.id)
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
    waiting = runs.Waiting(
        new.machine_id,
        new.work,
        tuple(dict.fromkeys(categories)),
        who,
        expected=expected,
        held_picks=HeldPicks(picks=new.held, if_taken=new.if_taken),
    )
    run_id = runs.add(conn, waiting, at=at)
    assert run_id is not None
    return _told(conn, run_id, at)


def _make_settings(conn: Connection, new: NewRun, *, who: str, at: int) -> Run:
    """A run that lets programs run otherwise, or puts changes back; the shop's rules are asked
    first, and the machine's guard has the last word."""
    machine = shop.machine(conn, new.machine_id)
    assert machine is not None
    wanted, change_ids = [], []
    if new.programs:
        judged = {j.program.key: j for j in judged_look(conn, machine).programs}
        for number, want in enumerate(new.programs):
            program = judged.get(want.program)
            where = f"/programs/{number}"
            if program is None:
                raise invalid(f"{where}/program", f"{want.program} was not seen on {machine.tag}")
            if not program.verdict.changes:
                reason = f"{program.program.name} stays: {program.verdict.reason}"
                raise invalid(where, f"{reason} {program.verdict.detail}".strip())
            if program.verdict.value != want.intent:
                name, by_rule = program.program.name, program.verdict.value
                raise invalid(f"{where}/intent", f"{name} is set to {by_rule} by the shop's rules")
            wanted.append(Wanted(program=want.program, was=program.now, intent=want.intent))
    values = _wanted_values(conn, machine, new.values) if new.values else ()
    for place, number in enumerate(new.changes):
        change = settings_changes.change(conn, number)
        if change is None or change.machine_id != machine.id:
            raise invalid(f"/changes/{place}", f"change {number} is not of {machine.tag}")
        if change.state is not ChangeState.MADE:
            raise invalid(f"/changes/{place}", f"change {number} is {change.state} already")
        change_ids.append(settings_changes.machines_name(conn, number))
    picks = SettingsPicks(
        wanted=tuple(wanted), values=values, changes=tuple(change_ids), comment=new.comment
    )
    waiting = runs.Waiting(new.machine_id, new.work, (), who, settings=picks)
    run_id = runs.add(conn, waiting, at=at)
    assert run_id is not None
    return _told(conn, run_id, at)


def _wanted_values(
    conn: Connection, machine: Machine, asked: Sequence[WantedSetting]
) -> tuple[WantedValue, ...]:
    """Settings as the rules want them; a problem where one stays, or is to be something else."""
    judged = {(j.seen.key, j.seen.person): j for j in judged_look(conn, machine).values}
    wanted = []
    for number, want in enumerate(asked):
        where = f"/values/{number}"
        value = judged.get((want.setting, want.person))
        if value is None:
            of = f" of {want.person}" if want.person else ""
            raise invalid(f"{where}/setting", f"{want.setting}{of} was not seen on {machine.tag}")
        name = value.setting.name
        if not value.verdict.changes:
            reason = f"{name} stays: {value.verdict.reason} {value.verdict.detail}"
            raise invalid(where, reason.strip())
        is_same = type(value.verdict.value) is type(want.value)
        if not is_same or value.verdict.value != want.value:
            raise invalid(f"{where}/value", f"{name} is to be {value.becomes} by the shop's rules")
        wanted.append(
            WantedValue(
                setting=want.setting,
                person=want.person,
                previous=value.seen.value,
                value=want.value,
            )
        )
    return tuple(wanted)


def _check_consents(conn: Connection, new: NewRun, at: int) -> Tally:
    """The sum agreed to; every `ask` category must have its yes, every yes its category."""
    agreed: dict[str, Tally] = {}
    for consent_id in new.consent_ids:
        consent = consents.consent(conn, consent_id)
        if consent is None or consent.machine_id != new.machine_id:
            raise invalid("/consent_ids", f"consent {consent_id} is not for this machine")
        if consent.used_by_run is not None:
            raise invalid("/consent_ids", f"consent {consent_id} was used already")
        if to_seconds(consent.expires_at) < at:
            raise invalid("/consent_ids", f"consent {consent_id} has expired; ask again")
        agreed[consent.category] = consents.agreed_on(conn, consent, new.volumes)
    standing = consents.standing_categories(conn, new.machine_id)
    for key in new.categories:
        caution = catalogue()[key].caution
        if caution is Caution.REPORT:
            raise invalid("/categories", f"{key} is only ever listed; a person deals with it")
        if caution is Caution.ASK and key not in agreed and key not in standing:
            raise invalid("/consent_ids", f"{key} needs a consent to its listing; give one first")
    for key in agreed:
        if key not in new.categories:
            raise invalid(
                "/categories",
                f"there is a consent for {key}, but {key} is not among the categories to clean",
            )
    return sum(agreed.values(), Tally())


def expected_to_go(
    looked: Ledger, categories: tuple[str, ...], volumes: VolumeChoice = ALL_VOLUMES
) -> Tally:
    """What goes of some categories on some volumes by their rules, without another approval."""
    going = (line.going(volumes) for line in looked.lines if line.category in categories)
    return sum(going, Tally())


def check_volumes(
    conn: Connection, where: str, choice: VolumeChoice, machine_ids: Sequence[int]
) -> None:
    """A problem where a chosen volume is none of these machines', as far as theirs are known."""
    if choice.is_all:
        return
    mounts = shop.mounts(conn, machine_ids)
    every = sorted({mount for of_machine in mounts.values() for mount in of_machine})
    if why := choice.why_not(every):
        raise invalid(where, why)
