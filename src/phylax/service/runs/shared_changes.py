"""One change on many machines: made, gone on with, put back, and judged by its two halves."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.clients.shop import Machine
from phylax.core.ground.values import to_seconds
from phylax.core.runs.runs import NewRun, Run, WantedProgram, WantedSetting
from phylax.core.tuning.changes import ChangeState
from phylax.core.tuning.setting import settings
from phylax.core.tuning.shared import NewSharedChange, SharedChange, SharedMachine, first_half
from phylax.core.tuning.starts import SHOWN, BootCost
from phylax.core.tuning.trials import MachineTrial, Start, judge_half_first
from phylax.core.tuning.what_if import WhatIfLine, what_if
from phylax.service.problems import Problem, invalid, not_found
from phylax.service.runs import create
from phylax.service.tuning import judging as tuning
from phylax.service.tuning.what_if import looked, settings_over_the_shop
from phylax.store.clients import shop
from phylax.store.tuning import (
    notebook,
    program_looks,
    settings_changes,
    shared_changes,
    starts,
)


def over_the_shop(conn: Connection) -> list[WhatIfLine]:
    """What becomes of each program and setting over all machines, by what counts now; what stays
    everywhere is left out."""
    machines = looked(conn, program_looks.on_machines(conn, lambda program: True))
    programs = [line for line in what_if(machines, notebook.entries(conn)) if line.changes_on]
    return [*programs, *settings_over_the_shop(conn)]


def make(conn: Connection, new: NewSharedChange, *, who: str, at: int) -> SharedChange:
    """Begin a change on many machines: on all of them, or on half of them first. A problem where
    it is not what the rules want on one of them; then nothing is ordered at all."""
    machine_ids = tuple(dict.fromkeys(new.machine_ids))
    known = {machine.id: machine for machine in shop.machines_by_id(conn, list(machine_ids))}
    for place, number in enumerate(machine_ids):
        if number not in known:
            raise invalid(f"/machine_ids/{place}", f"there is no machine {number}")
    names = {(line.setting, line.program): line.name for line in over_the_shop(conn)}
    name = names.get((new.setting, new.program), new.program or settings()[new.setting].name)
    first = first_half(machine_ids, f"{new.program} {at}") if new.half_first else machine_ids
    number = shared_changes.add(
        conn, new, name, half_first=len(first) < len(machine_ids), who=who, at=at
    )
    shared_changes.add_machines(conn, number, [(m, m in first) for m in machine_ids])
    for place, machine_id in enumerate(machine_ids):
        if machine_id in first:
            _order(conn, number, new, known[machine_id], place, who=who, at=at)
    return get(conn, number)


def _order(
    conn: Connection, number: int, new: NewSharedChange, machine: Machine, place: int,
    *, who: str, at: int,
) -> Run:  # fmt: skip
    values = () if new.intent is not None else _wanted_there(conn, machine, new)
    if new.intent is None and not values:
        where = f"/machine_ids/{place}"
        raise invalid(where, f"{machine.tag}: no rule wants it {new.becomes} there")
    programs = (
        () if new.intent is None else (WantedProgram(program=new.program, intent=new.intent),)
    )
    order = NewRun(
        machine_id=machine.id,
        work="change settings",
        programs=programs,
        values=values,
        comment=new.comment,
    )
    run = create.make(conn, order, who=who, at=at)
    shared_changes.note_run(conn, number, machine.id, run.id)
    return run


def _wanted_there(
    conn: Connection, machine: Machine, new: NewSharedChange
) -> tuple[WantedSetting, ...]:
    """A setting of the machine's and its people's, as far as the rules want it so."""
    assert new.value is not None
    return tuple(
        WantedSetting(setting=new.setting, person=judged.seen.person, value=new.value)
        for judged in tuning.judged_look(conn, machine).values
        if judged.seen.key == new.setting
        and judged.verdict.changes
        and judged.verdict.value == new.value
    )


def go_on(conn: Connection, number: int, *, who: str, at: int) -> SharedChange:
    """The other half has its turn. Machines on which the rules want it no longer are left as they
    are."""
    shared = get(conn, number)
    rest = [machine.machine_id for machine in shared.machines if machine.run_id is None]
    if not rest:
        raise Problem(409, "nothing-left", "Every machine of it has had its turn.")
    wanted_on = {line.program: set(line.changes_on) for line in over_the_shop(conn)}
    new = NewSharedChange(
        program=shared.program,
        intent=shared.intent,
        machine_ids=tuple(rest),
        comment=shared.comment,
    )
    shared_changes.note_rest(conn, number, at=at)
    for place, machine in enumerate(shop.machines_by_id(conn, rest)):
        if machine.id in wanted_on.get(shared.program, ()):
            _order(conn, number, new, machine, place, who=who, at=at)
    return get(conn, number)


def put_back(conn: Connection, number: int, *, who: str, at: int) -> SharedChange:
    """Put it back wherever it is in force. The other half has no turn any more."""
    shared = get(conn, number)
    made = {m.machine_id: m for m in shared.machines if m.state is ChangeState.MADE}
    # one that retired meanwhile keeps what it has
    in_care = [m.id for m in shop.machines_by_id(conn, list(made)) if m.retired_at is None]
    standing = [made[number] for number in in_care]
    if not standing:
        raise Problem(409, "nothing-left", "It is in force on no machine in care.")
    for machine in standing:
        assert machine.run_id is not None
        in_force = [
            change.number
            for change in settings_changes.by_run(conn, machine.run_id)
            if change.state is ChangeState.MADE and change.number in machine.changes
        ]
        order = NewRun(
            machine_id=machine.machine_id, work="put settings back", changes=tuple(in_force)
        )
        create.make(conn, order, who=who, at=at)
    return get(conn, number)


def get(conn: Connection, number: int) -> SharedChange:
    """One of them, judged where it was halved."""
    shared = shared_changes.get(conn, number)
    if shared is None:
        raise not_found("shared change", number)
    if not shared.half_first:
        return shared
    trials = [
        _machine_trial(conn, shared, machine)
        for machine in shared.machines
        if not machine.first or machine.state is ChangeState.MADE
    ]
    return shared.model_copy(update={"judged": judge_half_first(trials)})


def _machine_trial(conn: Connection, shared: SharedChange, machine: SharedMachine) -> MachineTrial:
    """A machine's starts before the first half was changed, and after it until the other was."""
    until = None if shared.rest_at is None else to_seconds(shared.rest_at)
    before, after = starts.around(
        conn, machine.machine_id, to_seconds(shared.at), until, most=SHOWN
    )
    return MachineTrial(
        machine_id=machine.machine_id,
        changed=machine.first,
        before=tuple(map(_whole, before)),
        after=tuple(map(_whole, after)),
    )


def _whole(start: BootCost) -> Start:
    total = start.unattributed + sum((start.programs or {}).values())
    return Start(boot=start.boot, at=start.at, rest=total, left_out=start.left_out)
