"""Machines and clients retire and return: what that means is said before, and is what happens."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from conftest import Service
from helpers import TUESDAY, Clock, enrol, make_standin, needs_attention
from phylax.client import ChangedMeanwhileError, Phylax, RefusedError
from phylax.core.clients.shop import Client, ClientEdit, Machine, MachineEdit
from phylax.core.ground.readings import ReadingIn, by_volume
from phylax.core.record.records import RecordKind
from phylax.core.runs.runs import RunState
from phylax.core.scheduling.rounds import RoundEdit
from phylax.service.attention import monitor
from phylax.service.context.context import Context
from phylax.service.rounds import scheduler
from phylax.service.runs import dispatch
from phylax.store.runs import leases
from phylax.store.scheduling import rounds
from phylax.store.trends import readings

AFTER_THE_ROUND = datetime(2026, 3, 4, 9, 0, tzinfo=UTC)


@pytest.fixture
def client(owner: Phylax) -> Client:
    return owner.clients.add(ClientEdit(name="Kelpie Boatyard"))


@pytest.fixture
def two(owner: Phylax, context: Context, client: Client) -> list[Machine]:
    """Two machines of one client with agents; a round over the client, one over the first."""
    made = [
        owner.machines.add(MachineEdit(tag=f"boat-{n}", client_id=client.id, system="linux"))
        for n in (1, 2)
    ]
    with context.db.write() as conn:
        for machine in made:
            conn.execute(
                "INSERT INTO agents VALUES (?, ?, 'standin', '', '', 0)",
                (machine.id, bytes([machine.id])),
            )
    plans = [{"client_ids": (client.id,), "machine_ids": ()}, {"machine_ids": (made[0].id,)}]
    for number, plan in enumerate(plans):
        edit = TUESDAY.model_dump() | plan | {"name": f"Round {number}"}
        owner.rounds.add(RoundEdit.model_validate(edit))
    return made


def _full(context: Context, machine: Machine) -> None:
    with context.db.write() as conn:
        reading = ReadingIn(mount="/", capacity=1000, free=5, at=context.clock())
        readings.add(conn, machine.id, by_volume([reading]))
    monitor.whole(context)


def test_what_retiring_means_is_said_and_is_what_happens(
    owner: Phylax, context: Context, clock: Clock, two: list[Machine]
) -> None:
    first, second = two
    _full(context, first)
    waiting = owner.runs.survey(first.tag)
    owner.machines.enrolment_code(first.tag)
    meaning = owner.machines.retirement(first.tag)
    assert [(r.name, r.machines, r.others) for r in meaning.rounds] == [
        ("Round 0", 2, 1), ("Round 1", 1, 0),
    ]  # fmt: skip
    assert (meaning.waiting, meaning.enrolled, meaning.open_attention) == (1, 1, 1)
    assert "no machine stays in it; end it or give it others." in meaning.in_words[1]

    retired = owner.machines.retire(owner.machines.get(first.tag), "Sold")
    assert retired.retired_at == clock.now and retired.retired_why == "Sold"
    assert not retired.enrolled
    assert owner.runs.get(waiting.id).state is RunState.CALLED_OFF
    assert owner.machines.rounds(first.tag) == []
    assert [m.tag for m in owner.machines.list()] == [second.tag]
    assert [m.tag for m in owner.machines.list(retired=True)] == [first.tag]
    assert owner.clients.find("Kelpie Boatyard").machines == 1
    assert not needs_attention(context, owner)
    entries = [e.text for e in owner.records.list(machine=first.tag, kinds=[RecordKind.MACHINE])]
    assert entries[0] == "Retired: Sold."
    clock.now = AFTER_THE_ROUND
    scheduler.tick(context)
    assert all(run.id == waiting.id for run in owner.runs.list(machine=first.tag))
    with context.db.read() as conn:
        codes = conn.execute("SELECT count(*) FROM enrolment_codes").fetchone()[0]
    assert codes == 0


def test_nothing_begins_on_a_retired_machine(
    owner: Phylax, context: Context, two: list[Machine]
) -> None:
    first = two[0]
    failed = owner.runs.survey(first.tag)
    owner.runs.call_off(failed.id)
    owner.machines.retire(owner.machines.get(first.tag))
    routine = next(iter(owner.routines.list()))
    for ask in (
        lambda: owner.runs.survey(first.tag),
        lambda: owner.runs.check(first.tag, ["file-system"]),
        lambda: owner.runs.again([failed.id]),
        lambda: owner.routines.run(routine.id, [first.id]),
        lambda: owner.machines.enrolment_code(first.tag),
        lambda: owner.machines.retire(owner.machines.get(first.tag)),
    ):
        with pytest.raises(RefusedError, match="retired"):
            ask()
    # a rule of the file itself, whoever writes
    with pytest.raises(Exception, match="retired"), context.db.write() as conn:
        conn.execute(
            "INSERT INTO runs (machine_id, work, state, made_by, made_at)"
            " VALUES (?, 'survey', 'waiting', 'x', 0)",
            (first.id,),
        )


def test_a_machine_returns_to_its_rounds_and_needs_its_agent_anew(
    owner: Phylax, two: list[Machine], tmp_path: Path
) -> None:
    first = two[0]
    owner.machines.retire(owner.machines.get(first.tag))
    meaning = owner.machines.retirement(first.tag)
    assert [r.name for r in meaning.rounds] == ["Round 0", "Round 1"]
    owner.machines.bring_back(owner.machines.get(first.tag))
    assert {r.name for r in owner.machines.rounds(first.tag)} == {"Round 0", "Round 1"}
    assert all(r.next_at is not None for r in owner.machines.rounds(first.tag))
    with pytest.raises(RefusedError, match="not retired"):
        owner.machines.bring_back(owner.machines.get(first.tag))
    standin = tmp_path / "standin"
    make_standin(standin)
    enrol(owner, first.tag, tmp_path / "agent", standin)
    assert owner.machines.get(first.tag).enrolled


def test_a_machine_at_work_is_not_retired(
    owner: Phylax, context: Context, two: list[Machine], clock: Clock
) -> None:
    first = two[0]
    run = owner.runs.survey(first.tag)
    with context.db.write() as conn:
        assert dispatch.offer(conn, first.id, at=context.now()) is not None
        assert leases.is_on_lease(conn, run.id, at=context.now())
    assert owner.machines.retirement(first.tag).under_way == (first.tag,)
    with pytest.raises(RefusedError, match=f"Run {run.id} is under way"):
        owner.machines.retire(owner.machines.get(first.tag))
    # one that was lost in the middle does not keep it for ever
    clock.pass_(timedelta(days=2))
    owner.machines.retire(owner.machines.get(first.tag), "Stolen")
    assert owner.runs.get(run.id).state.has_ended


def test_a_client_retires_with_its_machines_and_returns_with_those_alone(
    owner: Phylax, context: Context, two: list[Machine], client: Client
) -> None:
    first, second = two
    owner.machines.retire(owner.machines.get(first.tag), "Broken")
    meaning = owner.clients.retirement(client.id)
    assert meaning.machines == (second.tag,)
    owner.clients.retire(owner.clients.get(client.id), "Moved away")
    assert not list(owner.machines.list())
    assert [c.name for c in owner.clients.list(retired=True)] == ["Kelpie Boatyard"]
    assert not list(owner.clients.list())
    with pytest.raises(RefusedError, match="bring the client back first"):
        owner.machines.bring_back(owner.machines.get(second.tag))
    with pytest.raises(RefusedError, match="is retired"):
        owner.machines.add(MachineEdit(tag="boat-3", client_id=client.id, system="linux"))
    owner.clients.bring_back(owner.clients.get(client.id))
    assert [m.tag for m in owner.machines.list()] == [second.tag]
    assert owner.machines.get(first.tag).retired_why == "Broken"
    with context.db.read() as conn:
        in_round = {m.machine_id for m in rounds.members(conn, 1)}
    assert in_round == {second.id}


def test_only_technicians_retire_and_only_what_they_read(
    owner: Phylax, service: Service, two: list[Machine], client: Client
) -> None:
    before = owner.machines.get(two[0].tag)
    owner.machines.set_threshold(before, 80)
    with pytest.raises(ChangedMeanwhileError):
        owner.machines.retire(before)
    with service.as_("petra") as desk:
        for refused in (
            lambda: desk.machines.retire(desk.machines.get(two[0].tag)),
            lambda: desk.clients.retire(desk.clients.get(client.id)),
        ):
            with pytest.raises(RefusedError):
                refused()
        assert desk.machines.retirement(two[0].tag).machines == (two[0].tag,)
