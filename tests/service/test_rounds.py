"""Rounds as people make and change them: machines, windows, pressure, sites, skipping."""

from __future__ import annotations

from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path

import pytest

from helpers import TUESDAY, Clock, enrol, make_file, make_standin
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, ClosingDaysEdit, Machine, MachineEdit
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.values import to_seconds
from phylax.core.protocol import Asleep, Awake, ReadingsMessage, ResultMessage
from phylax.core.retention import Rule, Scope
from phylax.core.runs.runs import Run, RunState
from phylax.core.scheduling.rounds import MachineFilter, Pressure, RoundEdit
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler
from phylax.service.runs import dispatch, ingest
from phylax.store.clients import agents
from phylax.store.runs import runs
from phylax.store.scheduling import presence

DUE = datetime(2026, 3, 3, 18, 30, tzinfo=UTC)
HOUR = timedelta(hours=1)


def plan(**change: object) -> RoundEdit:
    return RoundEdit.model_validate({**TUESDAY.model_dump(), **change})


@pytest.fixture
def four(owner: Phylax, context: Context) -> list[Machine]:
    """Four machines of one client that may work two at a time, each with an agent."""
    client = owner.clients.add(ClientEdit(name="Saltmarsh", at_once=2))
    made = [
        owner.machines.add(MachineEdit(tag=f"library-{n}", client_id=client.id, system="windows"))
        for n in range(1, 5)
    ]
    with context.db.write() as conn:
        for machine in made:
            conn.execute(
                "INSERT INTO agents VALUES (?, ?, 'standin', '', '', 0)",
                (machine.id, bytes([machine.id])),
            )
    return made


def pass_until(context: Context, clock: Clock, moment: datetime) -> None:
    """Time passes with the scheduler awake."""
    while clock.now < moment:
        clock.now = min(moment, clock.now + timedelta(minutes=2))
        scheduler.tick(context)


def ask(context: Context, machine: Machine) -> int | None:
    """A machine asks for work; the run it is given."""
    with context.db.write() as conn:
        order = dispatch.offer(conn, machine.id, at=context.now())
    return order.run_id if order else None


def finish(context: Context, machine: Machine, run_id: int) -> None:
    with context.db.write() as conn:
        run = runs.run(conn, run_id)
        assert run is not None
        result = ResultMessage(
            id=f"result-{run_id}-x", run_id=run_id, started_at=context.clock() - HOUR / 4,
            ended_at=context.clock(), passes=1,
        )  # fmt: skip
        ingest.apply(conn, machine.id, result, at=context.now())


def of(owner: Phylax, machine: Machine) -> list[Run]:
    return list(owner.runs.list(machine=machine.tag))


# --- which machines --------------------------------------------------------------------------


def test_a_round_by_client_or_filter_takes_in_later_machines_and_lets_go_of_moved_ones(
    owner: Phylax, four: list[Machine], machine: Machine
) -> None:
    by_client = owner.rounds.add(
        plan(machine_ids=(), client_ids=(four[0].client_id,), except_machine_ids=(four[3].id,))
    )
    windows = MachineFilter.model_validate({"systems": ["windows"], "words": "library"})
    by_words = owner.rounds.add(plan(name="W", machine_ids=(), machines_like=windows))

    def tags(round_id: int) -> list[str]:
        return [row.machine_tag for row in owner.rounds.machines(round_id)]

    assert tags(by_client.id) == ["library-1", "library-2", "library-3"]
    new = MachineEdit(tag="library-5", client_id=four[0].client_id, system="linux")
    added = owner.machines.add(new)
    assert added.next_round_at == DUE
    assert tags(by_client.id)[-1] == "library-5" and "library-5" not in tags(by_words.id)
    owner.machines.change(added, new.model_copy(update={"client_id": machine.client_id}))
    assert "library-5" not in tags(by_client.id)


@pytest.mark.parametrize(
    ("change", "pointer"),
    [
        ({"routine_id": 99}, "/routine_id"), ({"client_ids": (99,)}, "/client_ids"),
        ({"except_machine_ids": (99,)}, "/except_machine_ids"), ({"responsible_id": 99},
         "/responsible_id"), ({"except_machine_ids": (1,)}, "/machine_ids"),
    ],
)  # fmt: skip
def test_a_round_that_names_what_is_not_there_is_refused(
    owner: Phylax, machine: Machine, change: dict, pointer: str
) -> None:
    with pytest.raises(RefusedError) as refused:
        owner.rounds.add(plan(**change))
    assert refused.value.errors[0]["pointer"] == pointer


# --- windows and sites -----------------------------------------------------------------------


def test_no_more_machines_of_a_client_work_at_once_than_may(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    owner.rounds.add(plan(machine_ids=[m.id for m in four], catch_up=HOUR))
    pass_until(context, clock, DUE)
    given = [ask(context, machine) for machine in four]
    assert [run is not None for run in given] == [True, True, False, False]
    # what a person asks for is not held up
    owner.runs.survey(four[3].tag)
    asked = ask(context, four[3])
    assert asked is not None and owner.runs.get(asked).made_by == "Ines Marrow"
    finish(context, four[0], given[0] or 0)
    finish(context, four[3], asked)
    assert ask(context, four[2]) is not None
    pass_until(context, clock, DUE + HOUR + timedelta(minutes=3))
    (missed,) = [r for r in of(owner, four[3]) if r.state is RunState.MISSED]
    assert missed.cause == "site"


def test_a_run_starts_only_in_its_window_and_is_told_when_it_must_have_ended(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    owner.rounds.add(plan(machine_ids=[four[0].id], closes="19:30", catch_up=timedelta(days=2)))
    pass_until(context, clock, DUE + timedelta(minutes=50))
    assert ask(context, four[0]) is None, "fifteen minutes do not fit any more"
    pass_until(context, clock, DUE + timedelta(hours=3))
    assert ask(context, four[0]) is None, "outside the window"
    pass_until(context, clock, DUE + timedelta(days=1))
    with context.db.write() as conn:
        order = dispatch.offer(conn, four[0].id, at=context.now())
    assert order is not None and order.kind == "clean"
    assert order.end_by == DUE + timedelta(days=1, hours=1)
    with context.db.write() as conn:
        result = ResultMessage(
            id="result-over", run_id=order.run_id, started_at=clock.now, ended_at=order.end_by,
            timed_out=True,
        )  # fmt: skip
        ingest.apply(conn, four[0].id, result, at=context.now())
    (run, *_) = of(owner, four[0])
    assert (run.state, run.reason) == (
        RunState.PARTLY, "its window ended before it was through",
    )  # fmt: skip


def test_a_closing_day_moves_what_is_planned_and_opening_after_all_moves_it_back(
    owner: Phylax, four: list[Machine], machine: Machine
) -> None:
    both = owner.rounds.add(plan(machine_ids=[four[0].id, machine.id]))
    closed = owner.closing_days.add(
        ClosingDaysEdit(client_id=four[0].client_id, first=date(2026, 3, 3), last=date(2026, 3, 4),
                        name="Exams")
    )  # fmt: skip

    def times() -> dict[str, datetime | None]:
        return {m.machine_tag: m.next_at for m in owner.rounds.machines(both.id)}

    assert times() == {"library-1": DUE + timedelta(days=2), "ferry-desk": DUE}
    lines = owner.rounds.agenda().lines
    assert [line.machines for line in lines] == [1, 1]
    assert "moved to 5 Mar" in lines[1].note
    owner.closing_days.remove(closed.id)
    assert set(times().values()) == {DUE}


def test_a_clients_own_time_zone_counts_where_the_round_says_so(
    owner: Phylax, four: list[Machine]
) -> None:
    client = owner.clients.get(four[0].client_id)
    edit = ClientEdit(name=client.name, zone="America/New_York")
    owner.clients.change(client, edit)
    made = owner.rounds.add(plan(machine_ids=[four[0].id], zone_of="client"))
    (row,) = owner.rounds.machines(made.id)
    assert row.next_at == datetime(2026, 3, 3, 23, 30, tzinfo=UTC)


# --- pressure --------------------------------------------------------------------------------


def test_a_round_runs_when_space_is_short_at_most_every_so_many_days(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    machine = four[0]
    owner.rounds.add(
        plan(recurrence=None, machine_ids=[machine.id], catch_up=timedelta(days=3),
             pressure=Pressure(below_percent=10, at_most_every=2))
    )  # fmt: skip

    def reading(free: int) -> list[str]:
        message = ReadingsMessage(
            id=f"reading-{free}-{clock.now.isoformat()}",
            readings=(ReadingIn(mount="/", capacity=100, free=free, at=clock.now),),
        )
        with context.db.write() as conn:
            ingest.apply(conn, machine.id, message, at=context.now())
        return [run.state for run in of(owner, machine)]

    assert reading(11) == []
    assert reading(9) == ["waiting"]
    clock.pass_(HOUR)
    assert reading(5) == ["waiting"], "once, however often it is told"
    run = ask(context, machine)
    finish(context, machine, run or 0)
    clock.pass_(timedelta(days=1))
    assert reading(4) == ["done"]
    clock.pass_(timedelta(days=1))
    assert reading(4) == ["waiting", "done"]


# --- by hand ---------------------------------------------------------------------------------


def test_the_next_time_is_skipped_or_held_back_for_one_machine(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    made = owner.rounds.add(plan(machine_ids=[m.id for m in four[:3]]))
    owner.rounds.skip(made.id, four[0].id, "exams")
    later = DUE + timedelta(days=1)
    owner.rounds.hold_back(made.id, four[1].id, later)
    told = {m.machine_tag: m.postponed for m in owner.rounds.machines(made.id)}
    assert told["library-1"] == "skipped by Ines Marrow: exams" and "held back" in told["library-2"]
    (line, *_) = owner.rounds.agenda().lines
    assert line.note == "skipped on 1 of 3"
    pass_until(context, clock, DUE)
    assert [ask(context, machine) is None for machine in four[:3]] == [True, True, False]
    (skipped,) = of(owner, four[0])
    assert (skipped.state, skipped.reason) == (
        RunState.CALLED_OFF, "skipped by Ines Marrow: exams",
    )  # fmt: skip
    pass_until(context, clock, later)
    assert ask(context, four[1]) is not None
    assert owner.rounds.get(made.id).next_at == DUE + timedelta(days=7)


def test_what_waits_already_is_skipped_and_held_back_too(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    made = owner.rounds.add(plan(machine_ids=[four[0].id, four[1].id]))
    pass_until(context, clock, DUE)
    owner.rounds.hold_back(made.id, four[0].id, DUE + 5 * HOUR)
    owner.rounds.skip(made.id, four[1].id)
    assert ask(context, four[0]) is None
    assert of(owner, four[1])[0].state is RunState.CALLED_OFF
    pass_until(context, clock, DUE + 6 * HOUR)
    assert ask(context, four[0]) is not None
    with pytest.raises(RefusedError, match="choose a later one"):
        owner.rounds.hold_back(made.id, four[0].id, DUE)
    with pytest.raises(RefusedError, match="is not in"):
        owner.rounds.skip(made.id, four[3].id)


def test_ending_a_round_calls_off_what_waits(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    made = owner.rounds.add(plan(machine_ids=[four[0].id]))
    pass_until(context, clock, DUE)
    owner.rounds.end(made.id)
    assert of(owner, four[0])[0].reason == "the round was ended by Ines Marrow"


def test_only_what_failed_is_done_again(
    owner: Phylax, machine: Machine, tmp_path: Path, context: Context, clock: Clock
) -> None:
    home = make_standin(tmp_path / "m", files_in_use=("root/home/anna/.tmp/open",))
    make_file(home / ".tmp/open", days_old=3)
    make_file(home / ".cache/mozilla/x", days_old=3)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    run = owner.runs.clean(machine.tag, ["user-temp", "trash"])
    agent.once()
    assert owner.runs.get(run.id).state is RunState.PARTLY
    (again,) = owner.runs.again([run.id])
    assert again.categories == ("user-temp",)
    agent.once()
    with pytest.raises(RefusedError, match="nothing to do again"):
        looked = owner.runs.survey(machine.tag)
        agent.once()
        owner.runs.again([looked.id])
    # of one that was missed, all is done
    owner.rounds.add(plan(machine_ids=[machine.id]))
    pass_until(context, clock, DUE + 3 * HOUR)
    (missed,) = owner.runs.missed(DUE)
    (whole,) = owner.runs.again([missed.id])
    assert whole.routine_id == 1 and whole.categories == missed.categories


def test_listings_that_wait_are_agreed_to_in_one_place(
    owner: Phylax, machine: Machine, tmp_path: Path
) -> None:
    home = make_standin(tmp_path / "m")
    for name in ("a.zip", "b.zip"):
        make_file(home / "Downloads" / name, 5000, days_old=90)
    make_file(home / ".tmp/old", days_old=3)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    owner.rules.put(Scope.SHOP, 0, "downloads", Rule(off=False, keep_for=timedelta(days=30)))
    owner.runs.survey(machine.tag)
    agent.once()
    (waiting,) = owner.waiting_listings.list()
    assert (waiting.machine_tag, waiting.category, waiting.items) == ("ferry-desk", "downloads", 2)
    (run,) = owner.waiting_listings.agree([(waiting.survey_id, "downloads")], comment="by phone")
    assert run.categories == ("downloads",)
    agent.once()
    assert not list((home / "Downloads").iterdir()) and (home / ".tmp/old").exists()
    assert owner.waiting_listings.list() == []
    (consent,) = owner.machines.consents(machine.tag)
    assert (consent.comment, consent.items, consent.used_by_run) == ("by phone", 2, run.id)


# --- when machines are on --------------------------------------------------------------------


def test_hours_are_learnt_from_what_machines_report_and_a_round_is_warned_of(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    clock.now = datetime(2026, 6, 1, 9, tzinfo=UTC)
    machine = four[0]
    with context.db.write() as conn:
        for days_ago in range(90):
            day = clock.now - timedelta(days=days_ago)
            told = [to_seconds(day.replace(hour=h)) for h in range(9, 17)]
            presence.note(conn, machine.id, told)
    shown = owner.rounds.preview(plan(machine_ids=[machine.id], at=time(23)))
    (habit,) = shown.seldom_on
    assert habit.sentence == (
        "library-1 has been on at this hour on 0 of the last 12 Tuesdays; Tuesdays 16:00 would do"
    )
    assert (habit.proposed_day, habit.proposed_at) == ("", time(16))
    assert owner.rounds.preview(plan(machine_ids=[machine.id], at=time(14))).seldom_on == ()
    made = owner.rounds.add(plan(machine_ids=[machine.id], at=time(23)))
    assert owner.rounds.habits(made.id) == [habit]
    grid = owner.rounds.presence(made.id)
    assert grid.machines == 1 and grid.shares[1][12] == 1.0 and grid.shares[1][3] == 0.0


def test_asking_for_work_is_heard_as_being_on(
    owner: Phylax, machine: Machine, tmp_path: Path, clock: Clock
) -> None:
    make_standin(tmp_path / "m")
    clock.now = datetime.now(UTC)
    agent = enrol(owner, machine.tag, tmp_path / "agent", tmp_path / "m")
    agent.once()
    clock.pass_(HOUR)
    told = owner.machines.presence(machine.tag).shares
    assert sum(share for day in told for share in day) >= 1


def test_a_machine_that_slept_says_so_afterwards_and_the_record_is_put_right(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    machine = four[0]
    owner.rounds.add(plan(machine_ids=[machine.id]))
    pass_until(context, clock, DUE + 3 * HOUR)
    (missed,) = of(owner, machine)
    assert missed.cause == "off"
    slept = Asleep(begin=DUE - HOUR, end=DUE + 2.5 * HOUR)
    awake = Awake(at=clock.now, since=DUE - 9 * HOUR, slept=(slept,))
    message = ReadingsMessage(id="reading-awake", readings=(), awake=awake)
    with context.db.write() as conn:
        assert agents.seen_at(conn, machine.id) == 0
        ingest.apply(conn, machine.id, message, at=context.now())
    (after,) = of(owner, machine)
    assert (after.cause, after.reason) == ("asleep", "the machine was asleep")
    correction, first = list(owner.records.list(machine=machine.tag))[:2]
    assert correction.corrects == first.id and "asleep" in correction.text


def test_a_longer_outage_of_the_service_is_the_reason_where_it_was(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    owner.rounds.add(plan(machine_ids=[four[0].id]))
    pass_until(context, clock, DUE - HOUR)
    clock.now = DUE + timedelta(days=1)
    scheduler.tick(context)
    (missed,) = of(owner, four[0])
    assert missed.cause == "service down"
    assert owner.rounds.get(1).next_at == DUE + timedelta(days=7)
    assert ask(context, four[0]) is None


# --- the agenda ------------------------------------------------------------------------------


def test_the_agenda_tells_what_was_what_comes_and_what_clashes(
    owner: Phylax, four: list[Machine], context: Context, clock: Clock
) -> None:
    ids = [m.id for m in four]
    owner.rounds.add(plan(machine_ids=ids))
    owner.rounds.add(plan(name="Also", machine_ids=ids[:1], at=time(18, 35), closes="18:45"))
    pass_until(context, clock, DUE + timedelta(minutes=2))
    finish(context, four[1], ask(context, four[1]) or 0)
    lines = owner.rounds.agenda(since=DUE - HOUR, until=DUE + timedelta(days=8)).lines
    (was, also, comes, too) = lines
    assert was.states == {"done": 1, "waiting": 3} and comes.states == {}
    # four machines two at a time, a quarter of an hour each
    assert comes.ends_at - comes.opens_at == timedelta(minutes=30)
    assert comes.clashes == ("1 machine also in Also at that time",)
    assert too.clashes[0] == "not through before it closes: 5 minutes too long"
    assert (also.round_name, too.round_name) == ("Also", "Also")
    only = owner.rounds.agenda(until=DUE + timedelta(days=8), client_id=four[0].client_id).lines
    assert {line.clients[0].client_name for line in only} == {"Saltmarsh"}
    with pytest.raises(RefusedError, match="within 400 days"):
        owner.rounds.agenda(until=DUE + timedelta(days=900))


@pytest.mark.parametrize(
    ("changes", "why"),
    [
        ({"recurrence": "every Tuesday, until 2026-01-31"}, "its last date has passed"),
        ({"recurrence": "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"}, "it names no day"),
    ],
)
def test_a_round_that_would_never_run_is_refused_and_while_it_is_typed(
    owner: Phylax, machine: Machine, changes: dict[str, str], why: str
) -> None:
    plan = TUESDAY.model_dump(mode="json") | changes | {"starts_on": "2026-01-01"}
    edit = RoundEdit.model_validate(plan)
    for call in (owner.rounds.preview, owner.rounds.add):
        with pytest.raises(RefusedError, match=f"would never run: {why}"):
            call(edit)
    assert list(owner.rounds.list()) == []
