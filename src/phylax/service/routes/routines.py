"""Routines: lists of steps, in the order that the work demands."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.ground.events import EventKind
from phylax.core.runs.runs import NewRoutineRuns, RunsMade
from phylax.core.scheduling.routines import Routine, RoutineEdit
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.http.paging import After, Limit, page
from phylax.service.problems import Problem, documented, not_found
from phylax.service.runs import create
from phylax.store.clients import shop
from phylax.store.scheduling import routines

router = APIRouter(prefix="/routines", tags=["routines"])


@router.get("")
def list_routines(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    after: After = 0,
    limit: Limit = 100,
) -> list[Routine]:
    with context.db.read() as conn:
        listed = routines.routines(conn, after=after, limit=limit + 1)
    return page(listed, limit, request, response, "after")


@router.post("", status_code=201, response_model=Routine, responses=documented(403, 409, 422))
def add_routine(edit: RoutineEdit, change: TheChange, technician: Technician) -> Response:
    """A routine of the shop's own. A wrong order is put right, and the answer says how."""

    def act(conn: Connection) -> Routine:
        made = _routine(conn, routines.add(conn, edit, who=change.who, at=change.now))
        change.audit(conn, "make routine", made.name, after=made)
        change.tell(conn, EventKind.ROUND)
        return made

    return change.once(edit, act)


@router.get("/{routine_id}", responses=documented(404))
def get_routine(
    routine_id: int,
    context: TheContext,
    actor: Signed,
    response: Response,
    version: int | None = None,
) -> Routine:
    """A routine as it is, or as it was in a version that a run used."""
    with context.db.read() as conn:
        routine = routines.routine(conn, routine_id, version)
    if routine is None:
        raise not_found("routine", routine_id)
    if version is None:
        with_etag(routine, response)
    return routine


@router.get("/{routine_id}/versions", responses=documented(404))
def get_versions(routine_id: int, context: TheContext, actor: Signed) -> list[Routine]:
    """Every version, newest first."""
    with context.db.read() as conn:
        listed = routines.versions(conn, routine_id)
    if not listed:
        raise not_found("routine", routine_id)
    return listed


@router.put("/{routine_id}", responses=documented(403, 404, 409, 412, 422, 428))
def change_routine(
    routine_id: int,
    edit: RoutineEdit,
    change: TheChange,
    technician: Technician,
    request: Request,
    response: Response,
) -> Routine:
    """A new version; what already runs finishes with its own."""
    with change.context.db.write() as conn:
        before = _own(conn, routine_id)
        check_match(request, before, shop.last_change(conn, "routines", routine_id))
        routines.change(conn, routine_id, edit, who=change.who, at=change.now)
        after = _routine(conn, routine_id)
        change.audit(conn, "change routine", after.name, before, after)
        change.tell(conn, EventKind.ROUND)
    with_etag(after, response)
    return after


@router.delete("/{routine_id}", status_code=204, responses=documented(403, 404, 409))
def end_routine(routine_id: int, change: TheChange, technician: Technician) -> None:
    """The routine is offered no more; what was done by it stays in the record."""
    with change.context.db.write() as conn:
        before = _own(conn, routine_id)
        if used := routines.in_rounds(conn, routine_id):
            raise Problem(409, "in-use", f"{before.name} recurs in {', '.join(used)}; "
                          "give these rounds another routine first.")  # fmt: skip
        routines.end(conn, routine_id, who=change.who, at=change.now)
        change.audit(conn, "end routine", before.name, before)
        change.tell(conn, EventKind.ROUND)


@router.post("/{routine_id}/runs", status_code=201, response_model=RunsMade,
             responses=documented(403, 404, 409, 422))  # fmt: skip
def run_routine(
    routine_id: int, new: NewRoutineRuns, change: TheChange, technician: Technician
) -> Response:
    """Carry a routine out once, on one machine or many, as soon as they call."""

    def act(conn: Connection) -> RunsMade:
        routine = _routine(conn, routine_id)
        made = RunsMade(runs=tuple(create.make_routines(conn, routine, new, who=change.who,
                                                      at=change.now)))  # fmt: skip
        change.audit(conn, "run routine", routine.name, after=new)
        return made

    response = change.once(new, act)
    for machine_id in new.machine_ids:
        change.context.wakeups.notify_machine(machine_id)
    return response


def _routine(conn: Connection, routine_id: int) -> Routine:
    routine = routines.routine(conn, routine_id)
    if routine is None:
        raise not_found("routine", routine_id)
    return routine


def _own(conn: Connection, routine_id: int) -> Routine:
    routine = _routine(conn, routine_id)
    if routine.shipped:
        raise Problem(
            409, "came-with-phylax", f"{routine.name} came with Phylax; copy it to change it."
        )
    return routine
