"""Rounds: work that recurs."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.ground.events import EventKind
from phylax.core.ground.values import Moment, from_seconds, to_seconds
from phylax.core.runs.runs import Run
from phylax.core.scheduling.agenda import Agenda
from phylax.core.scheduling.presence import Presence
from phylax.core.scheduling.rounds import (
    Habit,
    Postponed,
    Round,
    RoundEdit,
    RoundMachine,
    RoundPreview,
)
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.http.paging import NEWEST, After, Before, Limit, page
from phylax.service.problems import Problem, documented, invalid, not_found
from phylax.service.rounds import planning
from phylax.service.scheduling.agenda import agenda
from phylax.service.scheduling.timetable import place_round
from phylax.store.clients import shop
from phylax.store.runs import runs
from phylax.store.scheduling import rounds

router = APIRouter(prefix="/rounds", tags=["rounds"])
_LONGEST_SPAN = 400 * 86400


@router.get("")
def list_rounds(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    after: After = 0,
    limit: Limit = 100,
) -> list[Round]:
    with context.db.read() as conn:
        listed = rounds.rounds(conn, after=after, limit=limit + 1)
    return page(listed, limit, request, response, "after")


@router.get("/agenda", responses=documented(422))
def get_agenda(
    context: TheContext,
    actor: Signed,
    since: Moment | None = None,
    until: Moment | None = None,
    client_id: int | None = None,
) -> Agenda:
    """What runs, or ran, where, when and how long, over a span; the next week if none is given."""
    begin = to_seconds(since) if since else context.now()
    end = to_seconds(until) if until else begin + 7 * 86400
    if not begin < end <= begin + _LONGEST_SPAN:
        raise invalid("/until", "the span ends after it begins, and within 400 days")
    with context.db.read() as conn:
        return agenda(conn, begin, end, at=context.now(), client_id=client_id)


@router.post("/preview", responses=documented(422))
def preview_round(edit: RoundEdit, context: TheContext, actor: Signed) -> RoundPreview:
    """What a round would mean: in words, the next dates, who is seldom on; nothing is saved."""
    with context.db.read() as conn:
        planning.check(conn, edit)
        return planning.preview(conn, edit, at=context.now())


@router.post("", status_code=201, response_model=Round, responses=documented(403, 409, 422))
def add_round(edit: RoundEdit, change: TheChange, technician: Technician) -> Response:
    def act(conn: Connection) -> Round:
        planning.check(conn, edit)
        planning.check_dates(conn, edit, at=change.now)
        round_id = rounds.add(conn, edit, who=change.who, at=change.now)
        _place(conn, round_id, edit, change.now)
        made = _round(conn, round_id, change.now)
        change.audit(conn, "make round", made.name, after=made)
        change.tell(conn, EventKind.ROUND)
        return made

    return change.once(edit, act)


@router.get("/{round_id}", responses=documented(404))
def get_round(round_id: int, context: TheContext, actor: Signed, response: Response) -> Round:
    with context.db.read() as conn:
        current = _round(conn, round_id, context.now())
    with_etag(current, response)
    return current


@router.put("/{round_id}", responses=documented(403, 404, 409, 412, 422, 428))
def change_round(
    round_id: int,
    edit: RoundEdit,
    change: TheChange,
    technician: Technician,
    request: Request,
    response: Response,
) -> Round:
    with change.context.db.write() as conn:
        before = _round(conn, round_id, change.now)
        check_match(request, before, shop.last_change(conn, "rounds", round_id))
        planning.check(conn, edit)
        planning.check_dates(conn, edit, at=change.now)
        rounds.change(conn, round_id, edit, who=change.who, at=change.now)
        _place(conn, round_id, edit, change.now)
        after = _round(conn, round_id, change.now)
        change.audit(conn, "change round", after.name, before, after)
        change.tell(conn, EventKind.ROUND)
    with_etag(after, response)
    return after


@router.delete("/{round_id}", status_code=204, responses=documented(403, 404))
def end_round(round_id: int, change: TheChange, technician: Technician) -> None:
    """The round recurs no more; what waits of it is called off, what it did stays in the record."""
    with change.context.db.write() as conn:
        before = _round(conn, round_id, change.now)
        planning.call_off_waiting(conn, before, who=change.who, at=change.now)
        rounds.end(conn, round_id, who=change.who, at=change.now)
        change.audit(conn, "end round", before.name, before)
        change.tell(conn, EventKind.ROUND)


@router.get("/{round_id}/machines", responses=documented(404))
def get_machines_of_round(round_id: int, context: TheContext, actor: Signed) -> list[RoundMachine]:
    """The machines that belong to it now, by client and tag."""
    with context.db.read() as conn:
        return planning.machines_of(conn, _round(conn, round_id, context.now()))


@router.get("/{round_id}/runs", responses=documented(404))
def list_runs_of_round(
    round_id: int,
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Run]:
    """What became of its times, newest first."""
    with context.db.read() as conn:
        listed = runs.runs(conn, before=before, limit=limit + 1, round_id=round_id)
    return page(listed, limit, request, response, "before")


@router.get("/{round_id}/habits", responses=documented(404))
def get_habits(round_id: int, context: TheContext, actor: Signed) -> list[Habit]:
    """Its machines that are seldom on in its window, and an hour that would do."""
    now = context.now()
    with context.db.read() as conn:
        return planning.seldom_on(conn, _round(conn, round_id, now).plan, at=now)


@router.get("/{round_id}/presence", responses=documented(404))
def get_presence(round_id: int, context: TheContext, actor: Signed) -> Presence:
    """The share of its machines, by hour of the week, that is usually on."""
    now = context.now()
    with context.db.read() as conn:
        _round(conn, round_id, now)
        members = [member.machine_id for member in rounds.members(conn, round_id)]
        return planning.presence_of(conn, members, at=now)


@router.post("/{round_id}/postpone", responses=documented(403, 404, 409, 422))
def postpone(round_id: int, asked: Postponed, change: TheChange, technician: Technician) -> Round:
    """Skip the next time for a machine, or hold it back until later."""
    with change.context.db.write() as conn:
        before = _round(conn, round_id, change.now)
        if asked.until is not None and to_seconds(asked.until) <= change.now:
            raise invalid("/until", "that time has passed; choose a later one")
        if rounds.member(conn, round_id, asked.machine_id) is None:
            raise invalid("/machine_id", f"machine {asked.machine_id} is not in {before.name}")
        planning.postpone(conn, before, asked, who=change.who, at=change.now)
        change.audit(conn, "postpone round", before.name, after=asked)
        change.tell(conn, EventKind.ROUND, asked.machine_id)
        return _round(conn, round_id, change.now)


def _place(conn: Connection, round_id: int, edit: RoundEdit, at: int) -> None:
    if place_round(conn, round_id, edit, at=at) == 0 and edit.machines_like is None:
        raise Problem(422, "no-machines", "No machine is left in this round.",
                      pointer="/machine_ids")  # fmt: skip


def _round(conn: Connection, round_id: int, at: int) -> Round:
    current = rounds.round_(conn, round_id)
    if current is None:
        raise not_found("round", round_id)
    dates = planning.next_times(conn, current.plan, at=at)
    return current.model_copy(
        update={"next_dates": tuple(from_seconds(occurrence.opens_at) for occurrence in dates)}
    )
