"""The shop's clients."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.events import EventKind
from phylax.core.shop import Client, ClientEdit
from phylax.service.context.context import TheHouse
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheDeed, check_match, with_etag
from phylax.service.http.paging import After, Limit, page
from phylax.service.problems import documented, not_found
from phylax.service.schedule.timetable import place_all
from phylax.store import shop
from phylax.store.database import Connection

router = APIRouter(prefix="/clients", tags=["clients"])


@router.get("")
def list_clients(
    house: TheHouse,
    actor: Signed,
    request: Request,
    response: Response,
    after: After = 0,
    limit: Limit = 100,
) -> list[Client]:
    with house.db.read() as conn:
        found = shop.clients(conn, after=after, limit=limit + 1)
    return page(found, limit, request, response, "after")


@router.post("", status_code=201, response_model=Client, responses=documented(409, 422))
def add_client(edit: ClientEdit, deed: TheDeed) -> Response:
    def act(conn: Connection) -> Client:
        client_id = shop.add_client(conn, edit, who=deed.who, at=deed.now)
        made = _client(conn, client_id)
        deed.audit(conn, "add client", made.name, after=made)
        deed.tell(conn, EventKind.CLIENT)
        return made

    return deed.once(edit, act)


@router.get("/{client_id}", responses=documented(404))
def get_client(client_id: int, house: TheHouse, actor: Signed, response: Response) -> Client:
    with house.db.read() as conn:
        found = _client(conn, client_id)
    with_etag(found, response)
    return found


@router.put("/{client_id}", responses=documented(404, 409, 412, 428))
def change_client(
    client_id: int, edit: ClientEdit, deed: TheDeed, request: Request, response: Response
) -> Client:
    with deed.house.db.write() as conn:
        before = _client(conn, client_id)
        check_match(request, before, shop.last_change(conn, "clients", client_id))
        shop.change_client(conn, client_id, edit, who=deed.who, at=deed.now)
        if before.zone != edit.zone or before.name != edit.name:
            place_all(conn, at=deed.now)
        after = _client(conn, client_id)
        deed.audit(conn, "change client", after.name, before, after)
        deed.tell(conn, EventKind.CLIENT)
    with_etag(after, response)
    return after


def _client(conn: Connection, client_id: int) -> Client:
    found = shop.client(conn, client_id)
    if found is None:
        raise not_found("client", client_id)
    return found
