"""Parts on order, machines that can be fetched, and sealed notes of visits."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.desk.orders import (
    NewPart,
    NewSealedNote,
    OpenedNote,
    OrderedPart,
    PartState,
    PartStep,
    ReadyToFetch,
    SealedNote,
    ready_in_words,
)
from phylax.core.desk.visits import Visit
from phylax.core.people.accounts import Role
from phylax.service.context.context import TheContext
from phylax.service.context.secret_box import LostKeyError
from phylax.service.http.auth import Actor, Signed
from phylax.service.http.changes import Change, TheChange
from phylax.service.problems import Problem, documented, not_found
from phylax.service.reporting import fetching
from phylax.service.routes.visits import open_as_read, shops_day, visit_of, write
from phylax.store.desk import parts as desk

router = APIRouter(tags=["visits"])
_MOST = 500
_CHANGED = documented(404, 409, 422)


@router.get("/ordered-parts")
def list_parts(context: TheContext, actor: Signed, visit: int | None = None) -> list[OrderedPart]:
    """Parts of a visit; or all of the shop that are waited for, the longest expected first."""
    with context.db.read() as conn:
        today = shops_day(conn, context.now())
        return desk.parts(conn, visit, today=today, limit=_MOST)


@router.post(
    "/visits/{number}/parts", status_code=201, response_model=OrderedPart, responses=_CHANGED
)
def order_part(number: int, new: NewPart, change: TheChange) -> Response:
    """Write down that a part is ordered for a visit."""

    def act(conn: Connection) -> OrderedPart:
        visit = _open(conn, number, change)
        part = _part(conn, desk.add_part(conn, number, new, who=change.who, at=change.now), change)
        source = f" from {part.supplier}" if part.supplier else ""
        expected = f", expected {part.expected}" if part.expected else ""
        write(conn, change, visit, f"Visit {number}: ordered {part.item}{source}{expected}.")
        change.audit(conn, "order part", visit.machine_tag, after=part)
        return part

    return change.once(new, act)


@router.post("/ordered-parts/{part}/state", response_model=OrderedPart, responses=_CHANGED)
def set_part(part: int, step: PartStep, change: TheChange) -> Response:
    """Write down that a part has arrived, is called off, or is waited for again."""

    def act(conn: Connection) -> OrderedPart:
        before = _part(conn, part, change)
        # it may come after the machine was handed over
        visit = visit_of(conn, before.visit_id, change.now)
        if step.state is not before.state:
            desk.set_part(conn, part, step.state, who=change.who, at=change.now)
            became = "waited for again" if step.state is PartState.ORDERED else step.state
            write(conn, change, visit, f"Visit {visit.id}: {before.item} {became}.")
            change.audit(conn, "part", visit.machine_tag, before, step)
        return _part(conn, part, change)

    return change.once(step, act, 200)


@router.post(
    "/visits/{number}/ready", response_model=Visit, responses=documented(404, 409, 412, 422, 428)
)
def set_ready(number: int, asked: ReadyToFetch, change: TheChange, request: Request) -> Response:
    """A machine can be fetched; its client is told by mail where somebody says yes to that."""

    def act(conn: Connection) -> Visit:
        before = open_as_read(conn, number, change, request)
        if asked.mail:
            fetching.tell(conn, before, asked, at=change.now)
        write(conn, change, before, ready_in_words(number, asked.mail or "", asked.comment))
        desk.set_ready(conn, number, asked.mail or "", who=change.who, at=change.now)
        after = visit_of(conn, number, change.now)
        change.audit(conn, "ready", after.machine_tag, before, after)
        return after

    return change.once(asked, act, 200)


@router.get("/visits/{number}/sealed-notes", responses=documented(404))
def list_sealed_notes(number: int, context: TheContext, actor: Signed) -> list[SealedNote]:
    """Which sealed notes a visit has, and who has read them; not what they say."""
    with context.db.read() as conn:
        visit_of(conn, number, context.now())
        return desk.notes(conn, number)


@router.post(
    "/visits/{number}/sealed-notes",
    status_code=201,
    response_model=SealedNote,
    responses=_CHANGED,
)
def seal_note(number: int, new: NewSealedNote, change: TheChange) -> Response:
    """Keep what a client left to sign in with. It is in no record and no backup's reach, and is
    destroyed at hand-over."""
    closed = change.context.vault.close(new.text)

    def act(conn: Connection) -> SealedNote:
        visit = _open(conn, number, change)
        made = desk.add_note(conn, number, new.title, closed, who=change.who, at=change.now)
        change.audit(conn, "seal a note", visit.machine_tag)
        return _note(conn, made)

    # a digest of the request is kept: what it says must not be guessed by that either
    return change.once(new.model_copy(update={"text": ""}), act)


@router.post(
    "/sealed-notes/{note}/open", response_model=OpenedNote, responses=documented(403, 404, 409)
)
def open_note(note: int, change: TheChange) -> OpenedNote:
    """Read a sealed note. For the owner and for technicians who work on the visit; each reading is
    written down."""
    with change.context.db.write() as conn:
        kept = _note(conn, note)
        visit = _open(conn, kept.visit_id, change)
        _check_reader(conn, visit, kept, change.actor)
        if kept.destroyed_at is not None:
            raise Problem(409, "destroyed", "This note is destroyed.")
        try:
            text = change.context.vault.open(desk.sealed(conn, note))
        except LostKeyError as error:
            raise Problem(409, "key-lost", str(error)) from None
        desk.note_read(conn, note, who=change.who, at=change.now)
        change.audit(conn, "read a sealed note", visit.machine_tag)
    return OpenedNote(id=note, title=kept.title, text=text)


@router.delete("/sealed-notes/{note}", status_code=204, responses=documented(404))
def destroy_note(note: int, change: TheChange) -> None:
    """Destroy a sealed note before its time."""
    with change.context.db.write() as conn:
        kept = _note(conn, note)
        if desk.destroy_notes(conn, kept.visit_id, at=change.now, number=note):
            visit = visit_of(conn, kept.visit_id, change.now)
            change.audit(conn, "destroy a sealed note", visit.machine_tag)


def _check_reader(conn: Connection, visit: Visit, note: SealedNote, actor: Actor) -> None:
    person = actor.person
    works_on_it = visit.assignee_id == person.id or desk.has_worked_on(conn, visit.id, actor.name)
    if person.role is Role.OWNER or note.made_by == actor.name:
        return
    if person.role is not Role.TECHNICIAN or not works_on_it:
        raise Problem(
            403,
            "not-yours",
            "A sealed note is for technicians who work on the visit: take the move first.",
        )


def _open(conn: Connection, number: int, change: Change) -> Visit:
    visit = visit_of(conn, number, change.now)
    if visit.closed_at is not None:
        raise Problem(409, "visit-ended", f"Visit {number} has ended.")
    return visit


def _part(conn: Connection, number: int, change: Change) -> OrderedPart:
    part = desk.part(conn, number, today=shops_day(conn, change.now))
    if part is None:
        raise not_found("part", number)
    return part


def _note(conn: Connection, number: int) -> SealedNote:
    note = desk.note(conn, number)
    if note is None:
        raise not_found("sealed note", number)
    return note
