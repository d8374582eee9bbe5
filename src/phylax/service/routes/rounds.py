"""Rounds: work that recurs."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.events import EventKind
from phylax.core.rounds import Round, RoundEdit, RoundPreview
from phylax.core.shop import Shop
from phylax.core.values import from_seconds, to_seconds
from phylax.service.deeds import TheDeed, check_match, with_etag
from phylax.service.house import House, TheHouse, the_shop
from phylax.service.paging import After, Limit, page
from phylax.service.problems import documented, invalid, not_found
from phylax.service.signin import Signed, Technician
from phylax.store import rounds, shop
from phylax.store.database import Connection

router = APIRouter(prefix="/rounds", tags=["rounds"])


@router.get("")
def list_rounds(
    house: TheHouse,
    actor: Signed,
    request: Request,
    response: Response,
    after: After = 0,
    limit: Limit = 100,
) -> list[Round]:
    with house.db.read() as conn:
        found = rounds.rounds(conn, after=after, limit=limit + 1)
    return page(found, limit, request, response, "after")


@router.post("/preview", responses=documented(422))
def preview_round(edit: RoundEdit, house: TheHouse, actor: Signed) -> RoundPreview:
    """How often in words, and the next five dates; nothing is saved."""
    with house.db.read() as conn:
        the = the_shop(conn)
    return RoundPreview(
        how_often=edit.how_often(),
        next_dates=tuple(edit.next_dates(the.clock, after=house.clock())),
    )


@router.post("", status_code=201, response_model=Round, responses=documented(403, 409, 422))
def add_round(edit: RoundEdit, deed: TheDeed, technician: Technician) -> Response:
    def act(conn: Connection) -> Round:
        next_at = _check(conn, edit, the_shop(conn), deed.house)
        round_id = rounds.add(conn, edit, next_at, who=deed.who, at=deed.now)
        made = _round(conn, round_id, deed.house)
        deed.audit(conn, "make round", made.name, after=made)
        deed.tell(conn, EventKind.ROUND)
        return made

    return deed.once(edit, act)


@router.get("/{round_id}", responses=documented(404))
def get_round(round_id: int, house: TheHouse, actor: Signed, response: Response) -> Round:
    with house.db.read() as conn:
        found = _round(conn, round_id, house)
    with_etag(found, response)
    return found


@router.put("/{round_id}", responses=documented(403, 404, 409, 412, 422, 428))
def change_round(
    round_id: int,
    edit: RoundEdit,
    deed: TheDeed,
    technician: Technician,
    request: Request,
    response: Response,
) -> Round:
    with deed.house.db.write() as conn:
        before = _round(conn, round_id, deed.house)
        check_match(request, before, shop.last_change(conn, "rounds", round_id))
        next_at = _check(conn, edit, the_shop(conn), deed.house)
        rounds.change(conn, round_id, edit, next_at, who=deed.who, at=deed.now)
        after = _round(conn, round_id, deed.house)
        deed.audit(conn, "change round", after.name, before, after)
        deed.tell(conn, EventKind.ROUND)
    with_etag(after, response)
    return after


@router.delete("/{round_id}", status_code=204, responses=documented(403, 404))
def end_round(round_id: int, deed: TheDeed, technician: Technician) -> None:
    """The round recurs no more; what it did stays in the record."""
    with deed.house.db.write() as conn:
        before = _round(conn, round_id, deed.house)
        rounds.end(conn, round_id, who=deed.who, at=deed.now)
        deed.audit(conn, "end round", before.name, before)
        deed.tell(conn, EventKind.ROUND)


def _check(conn: Connection, edit: RoundEdit, the: Shop, house: House) -> int | None:
    """When the round falls due first; problems where it names what is not there."""
    known = {m.id for m in shop.machines_by_id(conn, list(edit.machine_ids))}
    if missing := [m for m in edit.machine_ids if m not in known]:
        raise invalid("/machine_ids", f"there is no machine {missing[0]}")
    found = edit.next_dates(the.clock, after=house.clock(), most=1)
    if not found:
        raise invalid("/recurrence", "this round would never run: its last date has passed")
    return to_seconds(found[0])


def _round(conn: Connection, round_id: int, house: House) -> Round:
    found = rounds.round_(conn, round_id)
    if found is None:
        raise not_found("round", round_id)
    edit = RoundEdit.model_validate({n: getattr(found, n) for n in RoundEdit.model_fields})
    now = from_seconds(house.now())
    dates = edit.next_dates(the_shop(conn).clock, after=now)
    return found.model_copy(update={"next_dates": tuple(dates)})
