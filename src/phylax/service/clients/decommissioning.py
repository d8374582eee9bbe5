"""Machines and clients retire and return; what that means is said before."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from sqlite3 import Connection

from phylax.core.clients.decommissioning import Retirement, RoundWithout, means
from phylax.core.clients.shop import Client, Machine
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.service.problems import Problem
from phylax.service.runs.finish import call_off
from phylax.service.scheduling.timetable import place_machine
from phylax.store.clients import decommissioned, forgettings, shop
from phylax.store.desk import visits
from phylax.store.file import events
from phylax.store.record import records
from phylax.store.runs import leases, runs
from phylax.store.scheduling import rounds


def for_machine(conn: Connection, machine: Machine, *, at: int) -> Retirement:
    """What retiring a machine means, or what its returning does."""
    return _meaning(conn, [machine], machine.retired_at is not None, None, at=at)


def for_client(conn: Connection, client: Client, *, at: int) -> Retirement:
    """What retiring a client with all its machines means, or what its returning does."""
    numbers = decommissioned.machines_of(
        conn, client.id, retired_with_it=client.retired_at is not None
    )
    return _meaning(
        conn, shop.machines_by_id(conn, numbers), client.retired_at is not None, client.id, at=at
    ).model_copy(update={"retired_at": client.retired_at})


def _meaning(
    conn: Connection, machines: Sequence[Machine], returns: bool, client_id: int | None, *, at: int
) -> Retirement:
    numbers = [machine.id for machine in machines]
    held, held_until = decommissioned.held_on(conn, numbers)
    unfinished = [] if returns else decommissioned.unfinished_runs(conn, numbers)
    busy = [number for number in unfinished if leases.is_on_lease(conn, number, at=at)]
    facts = Retirement(
        retired_at=machines[0].retired_at if returns and machines else None,
        machines=tuple(machine.tag for machine in machines),
        rounds=_rounds_that_return(conn, numbers) if returns else _rounds_of(conn, numbers),
        waiting=len(unfinished) - len(busy),
        under_way=tuple(run.machine_tag for number in busy if (run := runs.run(conn, number))),
        enrolled=decommissioned.number_of(conn, "agents", "1", numbers),
        held=held,
        held_until=None if held_until is None else from_seconds(held_until),
        changes=decommissioned.number_of(conn, "changes", "t.state = 'made'", numbers),
        rules=decommissioned.decisions_of(conn, numbers, client_id),
        consents=decommissioned.number_of(
            conn, "standing_consents", "t.taken_back_at IS NULL", numbers
        ),
        open_attention=decommissioned.number_of(conn, "attention", "t.ended_at IS NULL", numbers),
    )
    return facts.model_copy(update={"in_words": means(facts)})


def _rounds_of(conn: Connection, numbers: Sequence[int]) -> tuple[RoundWithout, ...]:
    known = {r.id: r for number in numbers for r in rounds.of_machine(conn, number)}
    return tuple(
        RoundWithout(
            id=r.id,
            name=r.name,
            machines=r.machines,
            others=sum(m.machine_id not in numbers for m in rounds.members(conn, r.id)),
        )
        for r in known.values()
    )


def _rounds_that_return(conn: Connection, numbers: Sequence[int]) -> tuple[RoundWithout, ...]:
    described = [
        machine for number in numbers for machine in shop.described(conn, number, also_retired=True)
    ]
    return tuple(
        RoundWithout(id=r.id, name=r.name, machines=r.machines, others=r.machines)
        for r in rounds.rounds(conn, after=0, limit=100_000)
        if any(r.plan.takes(machine) for machine in described)
    )


def retire_machine(
    conn: Connection, machine: Machine, why: str, *, who: str, at: int, with_client: bool = False
) -> None:
    """It leaves the rounds, what waits for it is called off; a problem where it works just now."""
    if machine.retired_at is not None:
        raise Problem(409, "retired-already", f"{machine.tag} is retired already.")
    if (visit := visits.open_of(conn, machine.id)) is not None:
        raise Problem(
            409, "visit-open", f"Visit {visit} of {machine.tag} is open: hand it over first."
        )
    unfinished = decommissioned.unfinished_runs(conn, [machine.id])
    for number in unfinished:
        if leases.is_on_lease(conn, number, at=at):
            raise Problem(
                409, "run-under-way",
                f"Run {number} is under way on {machine.tag}: wait for its end or stop it first.",
            )  # fmt: skip
    for number in unfinished:
        run = runs.run(conn, number)
        assert run is not None
        with suppress(Problem):
            call_off(conn, run, who=who, at=at)
    decommissioned.retire_machine(conn, machine.id, why, with_client=with_client, who=who, at=at)
    _tell(conn, machine.id, f"Retired: {why}" if why else "Retired", who, at)


def bring_machine_back(conn: Connection, machine: Machine, *, who: str, at: int) -> None:
    """The rounds that take it in run there again; its agent is to be enrolled anew."""
    if machine.retired_at is None:
        raise Problem(409, "not-retired", f"{machine.tag} is not retired.")
    client = shop.client(conn, machine.client_id)
    if client is not None and client.retired_at is not None:
        raise Problem(
            409, "client-retired",
            f"{client.name} is retired: bring the client back first, or move {machine.tag} to "
            "another client.",
        )  # fmt: skip
    if client is not None and client.forgotten_at is not None:
        raise Problem(409, "forgotten", f"{client.name} is forgotten: there is nothing left.")
    decommissioned.bring_machine_back(conn, machine.id, who=who, at=at)
    place_machine(conn, machine.id, at=at)
    _tell(conn, machine.id, "Back in care", who, at)


def retire_client(conn: Connection, client: Client, why: str, *, who: str, at: int) -> None:
    """With all its machines."""
    if client.retired_at is not None:
        raise Problem(409, "retired-already", f"{client.name} is retired already.")
    for number in decommissioned.machines_of(conn, client.id, retired_with_it=False):
        machine = _machine(conn, number)
        retire_machine(conn, machine, why, who=who, at=at, with_client=True)
    decommissioned.set_client(conn, client.id, at, why, who=who, at=at)
    events.publish(conn, EventKind.CLIENT, at=at)


def bring_client_back(conn: Connection, client: Client, *, who: str, at: int) -> None:
    """With the machines that were retired with it."""
    if client.retired_at is None:
        raise Problem(409, "not-retired", f"{client.name} is not retired.")
    if client.forgotten_at is not None:
        raise Problem(409, "forgotten", f"{client.name} is forgotten: there is nothing left.")
    asked = forgettings.of_client(conn, client.id)
    if asked is not None and asked.state != "done":
        raise Problem(
            409, "to-be-forgotten",
            f"{client.name} is to be forgotten: call that off first, while it has not begun.",
        )  # fmt: skip
    decommissioned.set_client(conn, client.id, None, "", who=who, at=at)
    for number in decommissioned.machines_of(conn, client.id, retired_with_it=True):
        bring_machine_back(conn, _machine(conn, number), who=who, at=at)
    events.publish(conn, EventKind.CLIENT, at=at)


def _machine(conn: Connection, number: int) -> Machine:
    machine = shop.machine(conn, number)
    assert machine is not None
    return machine


def _tell(conn: Connection, machine_id: int, text: str, who: str, at: int) -> None:
    records.append(
        conn,
        Entry(
            machine_id=machine_id,
            at=from_seconds(at),
            who=who,
            kind=RecordKind.MACHINE,
            text=text if text.endswith(".") else f"{text}.",
        ),
    )
    events.publish(conn, EventKind.RECORD, at=at, machine_id=machine_id)
    events.publish(conn, EventKind.MACHINE, at=at, machine_id=machine_id)
