"""Runs: asked for by people, watched, called off."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.ground.values import Moment, to_seconds
from phylax.core.record.evidence import Evidence
from phylax.core.runs.runs import NewRun, Run, RunDetail, RunsAgain, RunsMade
from phylax.core.scheduling.routines import StepTick
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.problems import documented, not_found
from phylax.service.routes.lookup import find_machine, find_run
from phylax.service.runs import checklist, create
from phylax.service.runs.finish import call_off as call_off_run
from phylax.store.record import evidence
from phylax.store.runs import occurrences, runs

router = APIRouter(prefix="/runs", tags=["runs"])


@router.get("", responses=documented(404))
def list_runs(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    machine: str | None = None,
    missed_since: Moment | None = None,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Run]:
    """Runs, newest first; or those that were missed since a time."""
    with context.db.read() as conn:
        if missed_since is not None:
            return occurrences.missed_since(conn, to_seconds(missed_since), limit=limit)
        machine_id = find_machine(conn, machine).id if machine else None
        listed = runs.runs(conn, before=before, limit=limit + 1, machine_id=machine_id)
    return page(listed, limit, request, response, "before")


@router.post("", status_code=201, response_model=Run, responses=documented(403, 404, 409, 422))
def start_run(new: NewRun, change: TheChange, technician: Technician) -> Response:
    """Survey or clean a machine, put held things back or let them go, as soon as it calls."""

    def act(conn: Connection) -> Run:
        made = create.make(conn, new, who=change.who, at=change.now)
        change.audit(conn, f"start {made.work}", made.machine_tag, after=made)
        return made

    response = change.once(new, act)
    change.context.wakeups.notify_machine(new.machine_id)
    return response


@router.get("/{run_id}/evidence", responses=documented(404))
def get_evidence(run_id: int, context: TheContext, actor: Signed) -> list[Evidence]:
    """What the run's entry stands on (the listing that was agreed to, the consents, the outcomes),
    compared with the digests that the entry carries."""
    with context.db.read() as conn:
        find_run(conn, run_id)
        return evidence.checked(conn, run_id)


@router.get("/{run_id}", responses=documented(404))
def get_run(run_id: int, context: TheContext, actor: Signed) -> RunDetail:
    with context.db.read() as conn:
        detail = runs.detail(conn, run_id)
    if detail is None:
        raise not_found("run", run_id)
    return detail


@router.post("/again", status_code=201, response_model=RunsMade,
             responses=documented(403, 404, 409, 422))  # fmt: skip
def run_again(asked: RunsAgain, change: TheChange, technician: Technician) -> Response:
    """Do again what failed of some runs: all of one that was missed, else only what was left."""

    def act(conn: Connection) -> RunsMade:
        made = tuple(
            create.again(conn, run_id, who=change.who, at=change.now) for run_id in asked.run_ids
        )
        change.audit(conn, "run again", ", ".join(run.machine_tag for run in made), after=asked)
        return RunsMade(runs=made)

    response = change.once(asked, act)
    for run_id in asked.run_ids:
        with change.context.db.read() as conn:
            change.context.wakeups.notify_machine(find_run(conn, run_id).machine_id)
    return response


@router.post("/{run_id}/steps/{number}", responses=documented(403, 404, 409, 422))
def tick_step(
    run_id: int, number: int, edit: StepTick, change: TheChange, technician: Technician
) -> RunDetail:
    """Tick a step by hand, leave it out with a word, or open it again."""
    with change.context.db.write() as conn:
        run = find_run(conn, run_id)
        checklist.tick(conn, run, number, edit, who=change.who, at=change.now)
        change.audit(conn, f"step {number} {edit.state}", run.machine_tag, after=edit)
        after = runs.detail(conn, run_id)
    assert after is not None
    change.context.wakeups.notify_machine(run.machine_id)
    return after


@router.post("/{run_id}/call-off", responses=documented(403, 404, 409))
def call_off(run_id: int, change: TheChange, technician: Technician) -> Run:
    """Stop a run. What it has done so far is recorded."""
    with change.context.db.write() as conn:
        run = find_run(conn, run_id)
        after = call_off_run(conn, run, who=change.who, at=change.now)
        change.audit(conn, "call off run", run.machine_tag, run, after)
    return after
