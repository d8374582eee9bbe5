"""Clients are forgotten."""

from __future__ import annotations

from datetime import datetime, time
from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.erasing.forgetting.request import Forget, ForgetOutlook, Forgetting
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.service.context.context import TheContext, the_shop
from phylax.service.erasing import forgetting
from phylax.service.http.auth import Owner
from phylax.service.http.changes import TheChange, check_match
from phylax.service.problems import Problem, documented, invalid
from phylax.service.routes.lookup import find_client
from phylax.store.clients import forgettings, shop

router = APIRouter(tags=["forgetting"])


@router.get("/forgettings", responses=documented(403))
def list_forgettings(context: TheContext, owner: Owner) -> list[Forgetting]:
    """Clients that are to be forgotten, or were; the newest first."""
    with context.db.read() as conn:
        return forgettings.listed(conn)


@router.get("/clients/{client_id}/forgetting", responses=documented(403, 404))
def what_forgetting_means(client_id: int, context: TheContext, owner: Owner) -> ForgetOutlook:
    """What would be gone, and what stays."""
    with context.db.read() as conn:
        client = find_client(conn, client_id)
        today = from_seconds(context.now()).astimezone(the_shop(conn).clock).date()
        return forgetting.outlook(conn, client, today=today)


@router.post(
    "/clients/{client_id}/forgetting",
    status_code=201,
    response_model=Forgetting,
    responses=documented(403, 404, 409, 412, 422, 428),
)
def forget_client(
    client_id: int, asked: Forget, change: TheChange, owner: Owner, request: Request
) -> Response:
    """Forget a client who is retired, for good: at once, or from a day on. It is carried out in the
    background; `state` says how far it has come."""

    def act(conn: Connection) -> Forgetting:
        client = find_client(conn, client_id)
        check_match(request, client, shop.last_change(conn, "clients", client_id))
        if client.retired_at is None:
            raise Problem(
                409, "not-retired",
                f"{client.name} is in care: retire the client first, and put back what is wanted.",
            )  # fmt: skip
        already = forgettings.of_client(conn, client_id)
        if already is not None and already.state != "done":
            raise Problem(409, "forgotten-already", f"{client.name} is {already.state} already.")
        if client.forgotten_at is not None:
            raise Problem(409, "forgotten-already", f"{client.name} is forgotten already.")
        until = None
        if asked.postponed_until is not None:
            zone = the_shop(conn).clock
            until = to_seconds(datetime.combine(asked.postponed_until, time(), zone))
            if until <= change.now:
                raise invalid("/postponed_until", "Name a day to come.")
        number = forgettings.add(conn, client_id, asked, until, who=change.who, at=change.now)
        # the audit names numbers: it is to be without words of theirs
        change.audit(conn, "forget client", f"client {client_id}")
        change.tell(conn, EventKind.CLIENT)
        made = forgettings.get(conn, number)
        assert made is not None
        return made

    return change.once(asked, act)


@router.delete(
    "/clients/{client_id}/forgetting", status_code=204, responses=documented(403, 404, 409)
)
def call_forgetting_off(client_id: int, change: TheChange, owner: Owner) -> None:
    """Not to be forgotten after all; only so long as it has not begun."""
    with change.context.db.write() as conn:
        client = find_client(conn, client_id)
        asked = forgettings.of_client(conn, client_id)
        if asked is None or asked.state not in ("postponed", "waiting"):
            raise Problem(409, "not-postponed", f"No forgetting of {client.name} waits.")
        forgettings.call_off(conn, asked.id)
        change.audit(conn, "call forgetting off", f"client {client_id}")
        change.tell(conn, EventKind.CLIENT)
