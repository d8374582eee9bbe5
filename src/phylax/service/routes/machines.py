"""Machines: taken in, enrolled, looked at."""

from __future__ import annotations

import secrets
from datetime import timedelta
from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Request, Response

from phylax.core.clients.facts import Fact
from phylax.core.clients.machine_list import MachineChoice, MachineSort
from phylax.core.clients.shop import EnrolmentCode, Machine, MachineEdit
from phylax.core.ground.events import EventKind
from phylax.core.ground.machines import System
from phylax.core.ground.values import Moment, from_seconds, to_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.core.retention import RuleInForce
from phylax.core.scheduling.presence import Presence
from phylax.core.scheduling.rounds import Round
from phylax.core.survey import Ledger, ledger
from phylax.core.trends import (
    Cleaning,
    FreeLine,
    Outlook,
    Regrowth,
    Trend,
    VolumeLine,
    condense,
)
from phylax.service.context.context import Context, TheContext
from phylax.service.http.auth import Signed, Technician, hashed
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.http.csv import CSV, as_csv, wants_csv
from phylax.service.http.paging import After, Limit, as_json, page
from phylax.service.problems import Problem, documented, invalid
from phylax.service.rounds import planning
from phylax.service.routes.lookup import check_known, find_machine, find_volume
from phylax.service.routes.trends import point_of
from phylax.service.runs.managed_check import check_in_care
from phylax.service.scheduling.timetable import place_machine
from phylax.service.trends.forecasts import regrowths
from phylax.store.clients import agents, facts, machine_list, shop
from phylax.store.record import records
from phylax.store.retention import consents, rules
from phylax.store.runs import runs
from phylax.store.scheduling import rounds
from phylax.store.survey import surveys
from phylax.store.trends import outlooks, readings

router = APIRouter(prefix="/machines", tags=["machines"])
CODE_LASTS = timedelta(days=2)
# no letters or digits that are mistaken for each other when read aloud
_CODE_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"


def machine_choice(
    words: Annotated[
        str, Query(max_length=100, description="All in tag, client, make, model or serial")
    ] = "",
    client_id: int | None = None,
    system: Annotated[list[System], Query(description="Of these systems")] = [],  # noqa: B006
    nearly_full: Annotated[bool, Query(description="With a volume over its threshold")] = False,
    without_round: Annotated[bool, Query(description="That no round covers")] = False,
    not_enrolled: Annotated[bool, Query(description="Without an agent")] = False,
    retired: Annotated[bool, Query(description="Only those that are retired")] = False,
) -> MachineChoice:
    return MachineChoice(
        words=words,
        client_id=client_id,
        systems=tuple(system),
        nearly_full=nearly_full,
        without_round=without_round,
        not_enrolled=not_enrolled,
        retired=retired,
    )


Choice = Annotated[MachineChoice, Depends(machine_choice)]
Sort = Annotated[MachineSort, Query(description="What is not known comes last")]
Descending = Annotated[bool, Query()]


@router.get("", response_model=list[Machine], responses=CSV)
def list_machines(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    choice: Choice,
    machine_id: Annotated[
        list[int], Query(max_length=500, description="Only these, in this order")
    ] = [],  # noqa: B006
    sort: Sort = MachineSort.NUMBER,
    descending: Descending = False,
    after: After = 0,
    limit: Limit = 100,
) -> Response:
    """Machines by number, page by page; or chosen ones. As text/csv, all of them, sorted."""
    if wants_csv(request):
        return _machines_as_csv(context, choice, machine_id, sort, descending)
    with context.db.read() as conn:
        if machine_id:
            return as_json(machine_list.by_numbers(conn, machine_id))
        machines = machine_list.machines(conn, choice, after=after, limit=limit + 1)
    shown = page(machines, limit, request, response, "after")
    return as_json(shown, response.headers)


@router.get("/numbers")
def list_machine_numbers(
    context: TheContext,
    actor: Signed,
    choice: Choice,
    sort: Sort = MachineSort.NUMBER,
    descending: Descending = False,
) -> list[int]:
    """The numbers of all machines chosen, in order; their rows are then asked for as needed."""
    with context.db.read() as conn:
        return machine_list.numbers(conn, choice, sort, descending=descending)


def _machines_as_csv(
    context: Context,
    choice: MachineChoice,
    machine_id: list[int],
    sort: MachineSort,
    descending: bool,
) -> Response:
    with context.db.read() as conn:
        wanted = machine_id or machine_list.numbers(conn, choice, sort, descending=descending)
        machines = machine_list.by_numbers(conn, wanted)
    return as_csv(
        ("machine", "client", "system", "make", "model", "serial", "volume", "capacity", "free",
         "threshold_percent", "over_threshold", "last_cleaned", "next_round", "last_contact"),
        (
            (
                machine.tag, machine.client_name, machine.system, machine.make, machine.model,
                machine.serial, volume and volume.mount, volume and volume.capacity,
                volume and volume.free, machine.limit_percent,
                volume and volume.crosses and volume.crosses.likely,
                machine.cleaned_at, machine.next_round_at, machine.seen_at,
            )
            for machine in machines
            for volume in machine.volumes or (None,)
        ),
    )  # fmt: skip


@router.post("", status_code=201, response_model=Machine, responses=documented(409, 422))
def add_machine(edit: MachineEdit, change: TheChange) -> Response:
    """Add a machine."""

    def act(conn: Connection) -> Machine:
        _check_client(conn, edit, None)
        machine_id = shop.add_machine(conn, edit, who=change.who, at=change.now)
        place_machine(conn, machine_id, at=change.now)
        made = find_machine(conn, str(machine_id))
        records.append(
            conn,
            Entry(
                machine_id=made.id,
                at=from_seconds(change.now),
                who=change.who,
                kind=RecordKind.MACHINE,
                text=" ".join(f"Taken in: {made.make} {made.model}".split()) + ".",
            ),
        )
        change.audit(conn, "take in machine", made.tag, after=made)
        change.tell(conn, EventKind.MACHINE, made.id)
        return made

    return change.once(edit, act)


@router.get("/free-lines", response_model=list[FreeLine])
def list_free_lines(
    context: TheContext,
    actor: Signed,
    machine_id: Annotated[list[int], Query(max_length=200)],
    days: Annotated[int, Query(ge=7, le=800)] = 90,
    steps: Annotated[int, Query(ge=7, le=200)] = 45,
) -> Response:
    """The share free on every volume of some machines, for small drawings."""
    until = context.clock()
    since = until - timedelta(days=days)
    first, last = to_seconds(since), to_seconds(until)
    with context.db.read() as conn:
        lowest = readings.lowest_shares(conn, machine_id, first, last, steps)
    return as_json(
        FreeLine(machine_id=machine, volume_id=volume, shares=tuple(shares))
        for (machine, volume), shares in lowest.items()
    )


@router.get("/{machine}", responses=documented(404))
def get_machine(machine: str, context: TheContext, actor: Signed, response: Response) -> Machine:
    """One machine, by number or tag."""
    with context.db.read() as conn:
        target = find_machine(conn, machine)
    with_etag(target, response)
    return target


@router.put("/{machine}", responses=documented(404, 409, 412, 422, 428))
def change_machine(
    machine: str, edit: MachineEdit, change: TheChange, request: Request, response: Response
) -> Machine:
    with change.context.db.write() as conn:
        before = find_machine(conn, machine)
        check_match(request, before, shop.last_change(conn, "machines", before.id))
        check_known(conn, before.client_id)
        _check_client(conn, edit, before)
        shop.change_machine(conn, before.id, edit, who=change.who, at=change.now)
        place_machine(conn, before.id, at=change.now)
        after = find_machine(conn, str(before.id))
        change.audit(conn, "change machine", after.tag, before, after)
        change.tell(conn, EventKind.MACHINE, after.id)
    with_etag(after, response)
    return after


def _check_client(conn: Connection, edit: MachineEdit, machine: Machine | None) -> None:
    client = shop.client(conn, edit.client_id)
    if client is None:
        raise invalid("/client_id", f"there is no client {edit.client_id}")
    if client.retired_at is not None and (machine is None or machine.client_id != client.id):
        raise invalid("/client_id", f"{client.name} is retired: bring the client back first")


@router.get("/{machine}/facts", responses=documented(404))
def get_facts(machine: str, context: TheContext, actor: Signed) -> list[Fact]:
    """What is known of what it is: by people, and beside it as its agent read."""
    with context.db.read() as conn:
        return facts.of_machine(conn, find_machine(conn, machine).id)


@router.post("/{machine}/enrolment-code", status_code=201, responses=documented(403, 404, 409))
def make_enrolment_code(machine: str, change: TheChange, technician: Technician) -> EnrolmentCode:
    """A one-time code by which an agent becomes this machine's; shown once, lasts two days."""
    code = "-".join("".join(secrets.choice(_CODE_LETTERS) for _ in range(4)) for _ in range(4))
    until = change.now + int(CODE_LASTS.total_seconds())
    with change.context.db.write() as conn:
        target = check_in_care(conn, find_machine(conn, machine).id)
        agents.add_code(conn, hashed(code), target.id, who=change.who, at=change.now, until=until)
        change.audit(conn, "make enrolment code", target.tag)
    return EnrolmentCode(code=code, machine_id=target.id, expires_at=from_seconds(until))


@router.delete("/{machine}/agent", status_code=204, responses=documented(403, 404))
def withdraw_agent(machine: str, change: TheChange, technician: Technician) -> None:
    """The machine's agent may not call any more."""
    with change.context.db.write() as conn:
        target = find_machine(conn, machine)
        agents.withdraw(conn, target.id)
        change.audit(conn, "withdraw agent", target.tag)
        change.tell(conn, EventKind.MACHINE, target.id)


@router.get("/{machine}/ledger", responses=documented(404))
def get_ledger(machine: str, context: TheContext, actor: Signed) -> Ledger:
    """What the newest survey found: what goes, what stays and why."""
    with context.db.read() as conn:
        target = find_machine(conn, machine)
        survey = surveys.newest(conn, target.id)
        standing = consents.standing_categories(conn, target.id)
    if survey is None:
        raise Problem(
            404, "not-looked-at", f"{target.tag} has not been surveyed yet; run a survey first."
        )
    return ledger(survey, standing)


@router.get("/{machine}/rules", responses=documented(404))
def get_rules_in_force(machine: str, context: TheContext, actor: Signed) -> dict[str, RuleInForce]:
    """The rule that decides for each category, and where it comes from."""
    with context.db.read() as conn:
        return rules.in_force_on(conn, find_machine(conn, machine).id)


@router.get("/{machine}/rounds", responses=documented(404))
def get_rounds_of_machine(machine: str, context: TheContext, actor: Signed) -> list[Round]:
    with context.db.read() as conn:
        return rounds.of_machine(conn, find_machine(conn, machine).id)


@router.get("/{machine}/presence", responses=documented(404))
def get_presence_of_machine(machine: str, context: TheContext, actor: Signed) -> Presence:
    """When a machine is usually on, by hour of the week in the shop's time zone."""
    with context.db.read() as conn:
        target = find_machine(conn, machine)
        return planning.presence_of(conn, [target.id], at=context.now())


@router.get("/{machine}/trend", responses=documented(404, 422))
def get_trend(
    machine: str,
    context: TheContext,
    actor: Signed,
    mount: Annotated[str | None, Query(description="The volume; by default the fullest")] = None,
    since: Moment | None = None,
    until: Moment | None = None,
    points: Annotated[int, Query(ge=10, le=1000, description="At most so many")] = 300,
) -> Trend:
    """Free space over a span, cleanings marked; the last 90 days if no span is given."""
    end = until or context.clock()
    begin = since or end - timedelta(days=90)
    if begin >= end:
        raise invalid("/since", "the span must begin before it ends")
    with context.db.read() as conn:
        target = find_machine(conn, machine)
        volume = find_volume(target, mount)
        first, last = to_seconds(begin), to_seconds(end)
        by_hour = last - first <= 31 * readings.DAY
        read = readings.hourly if by_hour else readings.daily
        history = condense(read(conn, volume.id, first, last), points)
        cleaned = runs.cleanings(conn, target.id, first, last)
        lines = readings.lines(conn, volume.id)
        likely_outlooks = [
            outlook
            for outlook in outlooks.of_machine(conn, target.id)
            if outlook.volume_id == volume.id
        ]
    return Trend(
        volume_id=volume.id,
        mount=volume.mount,
        since=begin,
        until=end,
        points=tuple(point_of(r) for r in history),
        cleanings=tuple(
            Cleaning(run_id=r.id, at=r.ended_at, freed=r.freed)
            for r in cleaned
            if r.ended_at and r.volumes.covers(volume.mount)
        ),
        threshold_percent=target.limit_percent,
        lines=tuple(
            VolumeLine(began_at=from_seconds(line.began_at), capacity=line.capacity, why=line.why)
            for line in lines
        ),
        outlook=likely_outlooks[0] if likely_outlooks else None,
    )


@router.get("/{machine}/outlooks", responses=documented(404))
def get_outlooks(machine: str, context: TheContext, actor: Signed) -> list[Outlook]:
    """What can be said of each volume: how fast it fills, when it will be over, what helps."""
    with context.db.read() as conn:
        return outlooks.of_machine(conn, find_machine(conn, machine).id)


@router.get("/{machine}/regrowth", responses=documented(404))
def get_regrowth(machine: str, context: TheContext, actor: Signed) -> list[Regrowth]:
    """How each category comes back after a cleaning, fastest first."""
    with context.db.read() as conn:
        return regrowths(conn, find_machine(conn, machine).id, context.now())
