"""The shop's clients."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from phylax.core.clients.shop import Client, ClientEdit
from phylax.core.ground.events import EventKind
from phylax.core.people.accounts import Role
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.http.paging import After, Limit, page
from phylax.service.problems import documented
from phylax.service.routes.lookup import check_known, check_not_restricted, find_client
from phylax.service.scheduling.timetable import place_all
from phylax.store.clients import shop

router = APIRouter(prefix="/clients", tags=["clients"])


@router.get("")
def list_clients(
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    words: Annotated[
        str, Query(max_length=100, description="All in name, contact, mail or phone")
    ] = "",
    retired: Annotated[bool, Query(description="Only those that are retired")] = False,
    after: After = 0,
    limit: Limit = 100,
) -> list[Client]:
    with context.db.read() as conn:
        clients = shop.clients(
            conn, after=after, limit=limit + 1, words=words, retired=retired,
            also_restricted=actor.role is Role.OWNER,
        )  # fmt: skip
    return page(clients, limit, request, response, "after")


@router.post("", status_code=201, response_model=Client, responses=documented(409, 422))
def add_client(edit: ClientEdit, change: TheChange) -> Response:
    def act(conn: Connection) -> Client:
        client_id = shop.add_client(conn, edit, who=change.who, at=change.now)
        made = find_client(conn, client_id)
        change.audit(conn, "add client", made.name, after=made)
        change.tell(conn, EventKind.CLIENT)
        return made

    return change.once(edit, act)


@router.get("/{client_id}", responses=documented(403, 404))
def get_client(client_id: int, context: TheContext, actor: Signed, response: Response) -> Client:
    with context.db.read() as conn:
        client = find_client(conn, client_id)
        if actor.role is not Role.OWNER:
            check_not_restricted(conn, client_id)
    with_etag(client, response)
    return client


@router.put("/{client_id}", responses=documented(404, 409, 412, 428))
def change_client(
    client_id: int, edit: ClientEdit, change: TheChange, request: Request, response: Response
) -> Client:
    with change.context.db.write() as conn:
        before = find_client(conn, client_id)
        check_match(request, before, shop.last_change(conn, "clients", client_id))
        check_known(conn, client_id)
        shop.change_client(conn, client_id, edit, who=change.who, at=change.now)
        if before.zone != edit.zone or before.name != edit.name:
            place_all(conn, at=change.now)
        after = find_client(conn, client_id)
        change.audit(conn, "change client", after.name, before, after)
        change.tell(conn, EventKind.CLIENT)
    with_etag(after, response)
    return after
