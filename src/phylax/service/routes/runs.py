"""Runs: asked for by people, watched, called off."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.runs import NewRun, Run, RunDetail
from phylax.service import work
from phylax.service.deeds import TheDeed
from phylax.service.house import TheHouse
from phylax.service.paging import NEWEST, Before, Limit, page
from phylax.service.problems import documented, not_found
from phylax.service.routes.lookup import find_machine, find_run
from phylax.service.signin import Signed, Technician
from phylax.store import runs
from phylax.store.database import Connection

router = APIRouter(prefix="/runs", tags=["runs"])


@router.get("")
def list_runs(
    house: TheHouse,
    actor: Signed,
    request: Request,
    response: Response,
    machine: str | None = None,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Run]:
    """Runs, newest first."""
    with house.db.read() as conn:
        machine_id = find_machine(conn, machine).id if machine else None
        found = runs.runs(conn, before=before, limit=limit + 1, machine_id=machine_id)
    return page(found, limit, request, response, "before")


@router.post("", status_code=201, response_model=Run, responses=documented(403, 404, 422))
def start_run(new: NewRun, deed: TheDeed, technician: Technician) -> Response:
    """Survey or clean a machine, put held things back or let them go, as soon as it calls."""

    def act(conn: Connection) -> Run:
        made = work.make(conn, new, who=deed.who, at=deed.now)
        deed.audit(conn, f"start {made.work}", made.machine_tag, after=made)
        return made

    response = deed.once(new, act)
    deed.house.hub.nudge(new.machine_id)
    return response


@router.get("/{run_id}", responses=documented(404))
def get_run(run_id: int, house: TheHouse, actor: Signed) -> RunDetail:
    with house.db.read() as conn:
        found = runs.detail(conn, run_id)
    if found is None:
        raise not_found("run", run_id)
    return found


@router.post("/{run_id}/call-off", responses=documented(403, 404, 409))
def call_off(run_id: int, deed: TheDeed, technician: Technician) -> Run:
    """Stop a run; what it did so far is told truthfully."""
    with deed.house.db.write() as conn:
        run = find_run(conn, run_id)
        after = work.call_off(conn, run, who=deed.who, at=deed.now)
        deed.audit(conn, "call off run", run.machine_tag, run, after)
    return after
