"""Rounds on a clock of our own: made once, waited for, caught up with, missed with the reason."""

from collections import Counter
from datetime import UTC, datetime, timedelta
from threading import Thread

import pytest

from helpers import TUESDAY, Clock
from phylax.client import Phylax, RefusedError
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.runs.runs import RunState
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler
from phylax.store.file.database import Database

DUE = datetime(2026, 3, 3, 18, 30, tzinfo=UTC)


def states(owner: Phylax) -> list[str]:
    return [run.state for run in owner.runs.list()]


def test_an_occurrence_is_made_once_at_its_time(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    made = owner.rounds.add(TUESDAY)
    assert made.next_at == DUE
    clock.now = DUE - timedelta(seconds=1)
    assert scheduler.tick(context) == set()
    clock.now = DUE
    assert scheduler.tick(context) == {machine.id}
    assert scheduler.tick(context) == set()
    (run,) = owner.runs.list()
    assert (run.state, run.due_at, run.made_by) == (RunState.WAITING, DUE, "Tuesdays")
    assert owner.rounds.get(made.id).next_at == DUE + timedelta(days=7)


def test_two_services_on_one_file_make_no_occurrence_twice(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    owner.rounds.add(TUESDAY)
    clock.now = DUE
    other = Context(Database(context.db.path), clock)
    scheduler.tick(context)
    scheduler.tick(other)
    other.db.close()
    assert states(owner) == ["waiting"]


def test_two_services_that_tick_at_the_same_time_make_no_occurrence_twice(
    owner: Phylax, context: Context, clock: Clock
) -> None:
    client = owner.clients.add(ClientEdit(name="Many"))
    ids = tuple(
        owner.machines.add(MachineEdit(tag=f"m-{n}", client_id=client.id, system="linux")).id
        for n in range(8)
    )
    owner.rounds.add(TUESDAY.model_copy(update={"recurrence": "FREQ=DAILY", "machine_ids": ids}))
    other = Context(Database(context.db.path), clock)
    for _ in range(20):
        clock.pass_(timedelta(hours=8))
        both = [Thread(target=scheduler.tick, args=(one,)) for one in (context, other) * 2]
        for thread in both:
            thread.start()
        for thread in both:
            thread.join()
    with other.db.read() as conn:
        made = conn.execute("SELECT machine_id, occurs_at FROM runs").fetchall()
        written = conn.execute("SELECT run_id FROM records WHERE run_id IS NOT NULL").fetchall()
    other.db.close()
    assert len(made) == len(set(map(tuple, made))) == 7 * 8
    assert len(written) == len(set(map(tuple, written)))


def test_a_machine_that_stays_off_misses_it_and_the_record_says_why(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    owner.rounds.add(TUESDAY)
    clock.now = DUE
    for _ in range(62):
        scheduler.tick(context)
        clock.pass_(timedelta(minutes=2))
    (run,) = owner.runs.list()
    assert (run.state, run.reason) == (RunState.MISSED, "no agent is enrolled on the machine")
    assert "missed" in next(owner.records.list(machine=machine.tag)).text


def test_after_a_week_down_nothing_is_done_late_and_each_occurrence_ends_once(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    owner.rounds.add(TUESDAY)
    clock.now = DUE + timedelta(days=14, hours=1)
    scheduler.tick(context)
    found = {run.due_at: (run.state, run.reason) for run in owner.runs.list()}
    missed = (RunState.MISSED, "the service was down until its time had passed")
    assert found == {
        DUE: missed,
        DUE + timedelta(days=7): missed,
        DUE + timedelta(days=14): (RunState.WAITING, ""),
    }


def test_an_occurrence_that_still_waits_gives_way_to_the_next(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    daily = TUESDAY.model_copy(
        update={"recurrence": "FREQ=DAILY", "catch_up": timedelta(days=3), "name": "Daily"}
    )
    owner.rounds.add(daily)
    for _ in range(3):
        clock.pass_(timedelta(days=1))
        scheduler.tick(context)
    assert states(owner) == ["waiting", "missed", "missed"]


def test_a_paused_round_makes_nothing_and_an_ended_one_is_gone(
    owner: Phylax, machine: Machine, context: Context, clock: Clock
) -> None:
    made = owner.rounds.add(TUESDAY)
    paused = owner.rounds.change(made, TUESDAY.model_copy(update={"paused": True}))
    clock.now = DUE
    scheduler.tick(context)
    assert states(owner) == []
    owner.rounds.end(paused.id)
    assert list(owner.rounds.list()) == []
    owner.rounds.add(TUESDAY)  # its name is free again


def test_a_season_of_switching_off_ends_every_occurrence_in_one_state(
    owner: Phylax, context: Context, clock: Clock
) -> None:
    client = owner.clients.add(ClientEdit(name="Many"))
    ids = tuple(
        owner.machines.add(MachineEdit(tag=f"m-{n}", client_id=client.id, system="linux")).id
        for n in range(5)
    )
    owner.rounds.add(TUESDAY.model_copy(update={"recurrence": "FREQ=DAILY", "machine_ids": ids}))
    for hour in range(24 * 30):
        clock.now = datetime(2026, 3, 2, 9, tzinfo=UTC) + timedelta(hours=hour)
        if hour % 24 not in (11, 12):  # the service itself is away at odd hours
            scheduler.tick(context)
    clock.pass_(timedelta(hours=3))
    scheduler.tick(context)
    runs = list(owner.runs.list())
    assert Counter(run.state for run in runs) == {RunState.MISSED: 30 * 5}
    assert len({(run.machine_id, run.due_at) for run in runs}) == len(runs)


@pytest.mark.parametrize(
    "what", [{"machine_ids": (99,)}, {"recurrence": "FREQ=DAILY;UNTIL=20260301"}]
)
def test_a_round_for_nobody_or_for_the_past_is_refused(
    owner: Phylax, machine: Machine, what: dict
) -> None:
    with pytest.raises(RefusedError) as refused:
        owner.rounds.add(TUESDAY.model_copy(update=what))
    assert refused.value.errors[0]["pointer"] in ("/machine_ids", "/recurrence")


def test_the_preview_says_it_in_words_with_five_dates(owner: Phylax, machine: Machine) -> None:
    shown = owner.rounds.preview(TUESDAY)
    assert shown.how_often == "every Tuesday at 18:30"
    # after 29 March Dublin is an hour ahead of UTC
    assert [f"{d:%d.%m. %H:%M}" for d in shown.next_dates] == [
        "03.03. 18:30", "10.03. 18:30", "17.03. 18:30", "24.03. 18:30", "31.03. 17:30",
    ]  # fmt: skip
