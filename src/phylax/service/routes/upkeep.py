"""Upkeep of machines: what they have and lack, actions, before and after, advice."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Query, Response

from phylax.core.actions import ActionPart
from phylax.core.desk.advice import AdviceEdit, AdviceStatus, AdviceStep, GivenAdvice, Proposal
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.inventory import Inventory
from phylax.core.inventory.programs import ProgramOnMachine
from phylax.core.inventory.updates import MissingUpdate
from phylax.core.protocol.snapshots import Comparison
from phylax.core.record.records import Entry, RecordKind
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import Change, TheChange
from phylax.service.problems import documented, not_found
from phylax.service.routes.lookup import find_machine
from phylax.store.checks import inventories
from phylax.store.desk import advice
from phylax.store.record import records
from phylax.store.runs import action_results, runs
from phylax.store.survey import snapshots

router = APIRouter(tags=["upkeep"])
_DAY = 86_400
Words = Annotated[str, Query(max_length=200, description="Words in the program's name")]


@router.get("/machines/{machine}/inventories", responses=documented(404))
def list_inventories(machine: str, context: TheContext, actor: Signed) -> list[Inventory]:
    """The newest list of each kind that could be read: programs, updates, drivers, disks, parts."""
    with context.db.read() as conn:
        return inventories.newest(conn, find_machine(conn, machine).id)


@router.get("/machines/{machine}/updates", responses=documented(404))
def list_updates(machine: str, context: TheContext, actor: Signed) -> list[MissingUpdate]:
    """Updates that a machine lacks, and since when: security first, the oldest first."""
    with context.db.read() as conn:
        return inventories.missing(conn, find_machine(conn, machine).id)


@router.get("/installed")
def list_installed(
    context: TheContext,
    actor: Signed,
    words: Words = "",
    trial: Annotated[bool, Query(description="Only what is trial version")] = False,
    unused_days: Annotated[
        int | None, Query(ge=1, le=36_500, description="Nobody has started it for so long")
    ] = None,
    not_version: Annotated[
        str, Query(max_length=100, description="Every version but this one")
    ] = "",
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> list[ProgramOnMachine]:
    """Programs over the shop, the largest first."""
    before = None if unused_days is None else context.now() - unused_days * _DAY
    with context.db.read() as conn:
        return inventories.installed(
            conn, words, trial=trial, unused_before=before, not_version=not_version, limit=limit
        )


@router.get("/runs/{run_id}/acted", responses=documented(404))
def list_acted(run_id: int, context: TheContext, actor: Signed) -> list[ActionPart]:
    """What became of a run's actions, part by part."""
    with context.db.read() as conn:
        if runs.run(conn, run_id) is None:
            raise not_found("run", run_id)
        return action_results.of_run(conn, run_id)


@router.get("/runs/{run_id}/comparison", responses=documented(404))
def get_comparison(run_id: int, context: TheContext, actor: Signed) -> Comparison:
    """How the machine stood before a run and after it; 404 where nobody looked before it."""
    with context.db.read() as conn:
        comparison = snapshots.comparison(conn, run_id)
        if comparison is None:
            raise not_found("comparison of run", run_id)
        return comparison


# --- advice ----------------------------------------------------------------------------------


@router.get("/machines/{machine}/advice", responses=documented(404))
def list_advice(machine: str, context: TheContext, actor: Signed) -> list[GivenAdvice]:
    """What the client is advised about a machine: what is open first."""
    with context.db.read() as conn:
        return advice.of_machine(conn, find_machine(conn, machine).id)


@router.post(
    "/machines/{machine}/advice",
    status_code=201,
    response_model=GivenAdvice,
    responses=documented(403, 404, 422),
)
def give_advice(
    machine: str, edit: AdviceEdit, change: TheChange, technician: Technician
) -> Response:
    """Write down advice that was given."""

    def give(conn: Connection) -> GivenAdvice:
        of = find_machine(conn, machine)
        given = Proposal(kind=edit.kind, text=edit.text, figures=edit.figures)
        number = advice.add(conn, of.id, given, AdviceStatus.TOLD, who=change.who, at=change.now)
        made = advice.advice(conn, number)
        assert made is not None
        _record(conn, change, made)
        change.audit(conn, "give advice", edit.text, None, made)
        change.tell(conn, EventKind.CHECK, of.id)
        return made

    return change.once(edit, give)


@router.post("/advice/{number}/status", responses=documented(403, 404, 422))
def set_status(
    number: int, step: AdviceStep, change: TheChange, technician: Technician
) -> GivenAdvice:
    """Say what became of advice: told, accepted, declined, done, or dropped by the shop."""
    with change.context.db.write() as conn:
        before = advice.advice(conn, number)
        if before is None:
            raise not_found("advice", number)
        advice.set_status(
            conn,
            number,
            step.status,
            who=change.who,
            word=step.comment,
            at=change.now,
            again_on=step.again_on,
        )
        after = advice.advice(conn, number)
        assert after is not None
        _record(conn, change, after)
        change.audit(conn, "advice", after.text, before, after)
        change.tell(conn, EventKind.CHECK, after.machine_id)
        return after


def _record(conn: Connection, change: Change, given: GivenAdvice) -> None:
    word = f" {given.comment}" if given.comment else ""
    records.append(
        conn,
        Entry(
            machine_id=given.machine_id,
            at=from_seconds(change.now),
            who=change.who,
            kind=RecordKind.NOTE,
            text=f"Advice, {given.kind}, {given.status}: {given.text}{word}",
        ),
    )
    change.tell(conn, EventKind.RECORD, given.machine_id)
