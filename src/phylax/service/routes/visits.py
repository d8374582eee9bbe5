"""Visits: taken in, moved, handed over."""

from __future__ import annotations

from datetime import date
from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from phylax.core.desk.visits import (
    HandOver,
    NewVisit,
    NextTurn,
    Slip,
    Turn,
    Visit,
    VisitEdit,
    closed_in_words,
    moved_in_words,
    opened_in_words,
)
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.service.context.context import TheContext, the_shop
from phylax.service.http.auth import Signed
from phylax.service.http.changes import Change, TheChange, check_match, with_etag
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.http.pictures import ConsoleAddress, picture_of
from phylax.service.problems import Problem, documented, invalid, not_found
from phylax.service.routes.lookup import find_client, find_machine
from phylax.service.runs.managed_check import check_in_care
from phylax.store.desk import parts as desk
from phylax.store.desk import visits
from phylax.store.people import people
from phylax.store.record import records
from phylax.store.reporting import reports

router = APIRouter(prefix="/visits", tags=["visits"])
_MOST_OPEN = 500
_CHANGED = documented(404, 409, 412, 422, 428)


@router.get("", responses=documented(404))
def list_visits(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    open_only: Annotated[
        bool, Query(alias="open", description="All that are open, the overdue first")
    ] = False,
    machine: str | None = None,
    before: Before = NEWEST,
    limit: Limit = 50,
) -> list[Visit]:
    """Visits, the newest first; or all that are open."""
    with context.db.read() as conn:
        today = shops_day(conn, context.now())
        if open_only:
            return visits.opened(conn, today=today, limit=_MOST_OPEN)
        machine_id = find_machine(conn, machine).id if machine else None
        listed = visits.listed(
            conn, machine_id=machine_id, before=before, today=today, limit=limit + 1
        )
    return page(listed, limit, request, response, "before")


@router.post("", status_code=201, response_model=Visit, responses=documented(404, 409, 422))
def open_visit(new: NewVisit, change: TheChange) -> Response:
    """Take a machine in. One visit of a machine is open at a time."""

    def act(conn: Connection) -> Visit:
        machine = check_in_care(conn, new.machine_id)
        if (number := visits.open_of(conn, machine.id)) is not None:
            raise Problem(
                409, "visit-open", f"Visit {number} of {machine.tag} is open: go on with it, or "
                "hand it over first."
            )  # fmt: skip
        _check(conn, new, new.machine_id)
        _check_person(conn, new.assignee_id)
        made = visit_of(conn, visits.add(conn, new, who=change.who, at=change.now), change.now)
        write(conn, change, made, opened_in_words(made))
        change.audit(conn, "open visit", made.machine_tag, after=made)
        return made

    return change.once(new, act)


@router.get("/{number}", responses=documented(404))
def get_visit(number: int, context: TheContext, actor: Signed, response: Response) -> Visit:
    with context.db.read() as conn:
        visit = visit_of(conn, number, context.now())
    with_etag(visit, response)
    return visit


@router.get("/{number}/slip", responses=documented(404, 422))
def get_slip(number: int, context: TheContext, actor: Signed, console: ConsoleAddress) -> Slip:
    """The claim slip, with a code that opens the visit's page."""
    with context.db.read() as conn:
        visit = visit_of(conn, number, context.now())
        machine = find_machine(conn, str(visit.machine_id))
        client = find_client(conn, visit.client_id)
        name = the_shop(conn).name
        letterhead = reports.letterhead(conn)
    address = f"{console}/visits/{number}"
    return Slip(
        visit=visit, shop=name, head=letterhead.head, terms=letterhead.terms,
        contact=client.contact, phone=client.phone,
        make_and_model=f"{machine.make} {machine.model}".strip(), serial=machine.serial,
        address=address, picture=picture_of(address),
    )  # fmt: skip


@router.put("/{number}", responses=_CHANGED)
def change_visit(
    number: int, edit: VisitEdit, change: TheChange, request: Request, response: Response
) -> Visit:
    """What the desk wrote down is put right."""
    with change.context.db.write() as conn:
        before = open_as_read(conn, number, change, request)
        _check(conn, edit, before.machine_id, number)
        visits.change(conn, number, edit, who=change.who, at=change.now)
        after = visit_of(conn, number, change.now)
        change.audit(conn, "change visit", after.machine_tag, before, after)
        change.tell(conn, EventKind.MACHINE, after.machine_id)
    with_etag(after, response)
    return after


@router.post("/{number}/turn", response_model=Visit, responses=_CHANGED)
def set_turn(number: int, asked: NextTurn, change: TheChange, request: Request) -> Response:
    """Say who acts next, what is to be done, by when, and where the machine is."""

    def act(conn: Connection) -> Visit:
        before = open_as_read(conn, number, change, request)
        if asked.assignee_id is not None and asked.turn is not Turn.US:
            raise invalid("/assignee_id", "a person can only be named when the turn is us")
        _check_person(conn, asked.assignee_id)
        visits.set_turn(conn, number, asked, who=change.who, at=change.now)
        desk.not_ready(conn, number)
        after = visit_of(conn, number, change.now)
        write(conn, change, after, moved_in_words(after))
        change.audit(conn, "move visit", after.machine_tag, before, after)
        return after

    return change.once(asked, act, 200)


@router.post("/{number}/hand-over", response_model=Visit, responses=_CHANGED)
def hand_over(number: int, asked: HandOver, change: TheChange, request: Request) -> Response:
    """The machine goes back to its client, mended or not; the visit ends."""

    def act(conn: Connection) -> Visit:
        before = open_as_read(conn, number, change, request)
        closing = before.model_copy(
            update={
                "outcome": asked.outcome,
                "guaranteed_until": asked.guaranteed_until or before.guaranteed_until,
            }
        )
        # written while it is open, so that it belongs to it
        write(conn, change, before, closed_in_words(closing, asked.comment))
        visits.close(
            conn, number, asked.outcome, asked.guaranteed_until, who=change.who, at=change.now
        )
        desk.destroy_notes(conn, number, at=change.now)
        after = visit_of(conn, number, change.now)
        change.audit(conn, "hand over", after.machine_tag, before, after)
        return after

    return change.once(asked, act, 200)


def shops_day(conn: Connection, now: int) -> date:
    return from_seconds(now).astimezone(the_shop(conn).clock).date()


def visit_of(conn: Connection, number: int, now: int) -> Visit:
    visit = visits.visit(conn, number, today=shops_day(conn, now))
    if visit is None:
        raise not_found("visit", number)
    return visit


def open_as_read(conn: Connection, number: int, change: Change, request: Request) -> Visit:
    """An open visit, as it was read by whoever asks."""
    visit = visit_of(conn, number, change.now)
    if visit.closed_at is not None:
        raise Problem(
            409,
            "visit-ended",
            f"Visit {number} has ended; open another one for {visit.machine_tag}.",
        )
    check_match(request, visit, visits.last_change(conn, number))
    return visit


def _check(conn: Connection, edit: VisitEdit, machine_id: int, number: int | None = None) -> None:
    if edit.earlier_visit_id is None:
        return
    earlier = visits.visit(conn, edit.earlier_visit_id, today=date.min)
    if earlier is None or earlier.machine_id != machine_id or earlier.id == number:
        raise invalid(
            "/earlier_visit_id", f"this machine had no visit {edit.earlier_visit_id} before"
        )
    if earlier.closed_at is None:
        raise invalid("/earlier_visit_id", f"visit {edit.earlier_visit_id} is open still")


def _check_person(conn: Connection, whom: int | None) -> None:
    person = None if whom is None else people.by_id(conn, whom)
    if whom is not None and (person is None or not person.active):
        raise invalid("/assignee_id", f"nobody of the shop has the number {whom}")


def write(conn: Connection, change: Change, visit: Visit, text: str) -> None:
    records.append(
        conn,
        Entry(
            machine_id=visit.machine_id,
            at=from_seconds(change.now),
            who=change.who,
            kind=RecordKind.VISIT,
            text=text,
        ),
    )
    change.tell(conn, EventKind.RECORD, visit.machine_id)
    change.tell(conn, EventKind.MACHINE, visit.machine_id)
