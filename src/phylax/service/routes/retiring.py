"""Machines and clients retire, and return."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.clients.decommissioning import Retire, Retirement
from phylax.core.clients.shop import Client, Machine
from phylax.service.clients import decommissioning
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange, check_match
from phylax.service.problems import documented
from phylax.service.routes.lookup import find_client, find_machine
from phylax.store.clients import shop

router = APIRouter(tags=["retiring"])


@router.get("/machines/{machine}/retirement", responses=documented(404))
def what_retiring_a_machine_means(machine: str, context: TheContext, actor: Signed) -> Retirement:
    """What becomes of its rounds and of what waits or is held; retired: what returning means."""
    with context.db.read() as conn:
        return decommissioning.for_machine(conn, find_machine(conn, machine), at=context.now())


_REFUSED = documented(403, 404, 409, 412, 422, 428)


@router.post("/machines/{machine}/retire", response_model=Machine, responses=_REFUSED)
def retire_machine(
    machine: str, asked: Retire, change: TheChange, technician: Technician, request: Request
) -> Response:
    """The shop looks after it no more; what was done stays, nothing new begins."""

    def act(conn: Connection) -> Machine:
        before = _machine(conn, machine, request)
        decommissioning.retire_machine(conn, before, asked.why, who=change.who, at=change.now)
        after = find_machine(conn, str(before.id))
        change.audit(conn, "retire machine", after.tag, before, after)
        return after

    return change.once(asked, act, 200)


@router.post("/machines/{machine}/return", response_model=Machine, responses=_REFUSED)
def bring_machine_back(
    machine: str, change: TheChange, technician: Technician, request: Request
) -> Response:
    """Its rounds run there again; its agent is enrolled anew."""

    def act(conn: Connection) -> Machine:
        before = _machine(conn, machine, request)
        decommissioning.bring_machine_back(conn, before, who=change.who, at=change.now)
        after = find_machine(conn, str(before.id))
        change.audit(conn, "bring machine back", after.tag, before, after)
        return after

    return change.once(Retire(), act, 200)


@router.get("/clients/{client_id}/retirement", responses=documented(404))
def what_retiring_a_client_means(client_id: int, context: TheContext, actor: Signed) -> Retirement:
    """The same for a client with all its machines."""
    with context.db.read() as conn:
        return decommissioning.for_client(conn, find_client(conn, client_id), at=context.now())


@router.post("/clients/{client_id}/retire", response_model=Client, responses=_REFUSED)
def retire_client(
    client_id: int, asked: Retire, change: TheChange, technician: Technician, request: Request
) -> Response:
    """The client with all its machines."""

    def act(conn: Connection) -> Client:
        before = _client(conn, client_id, request)
        decommissioning.retire_client(conn, before, asked.why, who=change.who, at=change.now)
        after = find_client(conn, client_id)
        change.audit(conn, "retire client", after.name, before, after)
        return after

    return change.once(asked, act, 200)


@router.post("/clients/{client_id}/return", response_model=Client, responses=_REFUSED)
def bring_client_back(
    client_id: int, change: TheChange, technician: Technician, request: Request
) -> Response:
    """The client, with the machines that were retired with it."""

    def act(conn: Connection) -> Client:
        before = _client(conn, client_id, request)
        decommissioning.bring_client_back(conn, before, who=change.who, at=change.now)
        after = find_client(conn, client_id)
        change.audit(conn, "bring client back", after.name, before, after)
        return after

    return change.once(Retire(), act, 200)


def _machine(conn: Connection, which: str, request: Request) -> Machine:
    """As it was read by whoever asks."""
    machine = find_machine(conn, which)
    check_match(request, machine, shop.last_change(conn, "machines", machine.id))
    return machine


def _client(conn: Connection, client_id: int, request: Request) -> Client:
    client = find_client(conn, client_id)
    check_match(request, client, shop.last_change(conn, "clients", client_id))
    return client
