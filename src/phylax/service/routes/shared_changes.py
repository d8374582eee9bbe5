"""One change on many machines: one yes, half first, put back for all."""

from __future__ import annotations

from collections.abc import Callable
from sqlite3 import Connection

from fastapi import APIRouter, Query, Response

from phylax.core.ground.events import EventKind
from phylax.core.tuning.shared import NewSharedChange, SharedChange
from phylax.core.tuning.what_if import WhatIfLine
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.problems import documented
from phylax.service.runs import shared_changes
from phylax.store.tuning import shared_changes as store

router = APIRouter(prefix="/shared-changes", tags=["tune-up"])


@router.get("/proposed")
def list_proposed(context: TheContext, actor: Signed) -> list[WhatIfLine]:
    """What the rules would change over the whole shop, by program and by setting."""
    with context.db.read() as conn:
        return shared_changes.over_the_shop(conn)


@router.get("")
def list_shared(
    context: TheContext, actor: Signed, limit: int = Query(20, ge=1, le=200)
) -> list[SharedChange]:
    """Changes on many machines, the newest first."""
    with context.db.read() as conn:
        return [shared_changes.get(conn, number) for number in store.numbers(conn, limit)]


@router.get("/{number}", responses=documented(404))
def get_shared(number: int, context: TheContext, actor: Signed) -> SharedChange:
    with context.db.read() as conn:
        return shared_changes.get(conn, number)


@router.post("", status_code=201, response_model=SharedChange, responses=documented(403, 404, 422))
def make_shared(new: NewSharedChange, change: TheChange, technician: Technician) -> Response:
    """Change one program or setting on many machines, or a program on half of them first, as soon
    as they call."""

    def act(conn: Connection) -> SharedChange:
        made = shared_changes.make(conn, new, who=change.who, at=change.now)
        change.audit(conn, "change many machines", made.name, after=new)
        change.tell(conn, EventKind.SETTING)
        return made

    response = change.once(new, act)
    for machine_id in new.machine_ids:
        change.context.wakeups.notify_machine(machine_id)
    return response


@router.post("/{number}/rest", responses=documented(403, 404, 409, 422))
def go_on(number: int, change: TheChange, technician: Technician) -> SharedChange:
    """The other half has its turn."""
    return _act(change, number, "change the other half", shared_changes.go_on)


@router.post("/{number}/put-back", responses=documented(403, 404, 409, 422))
def put_back(number: int, change: TheChange, technician: Technician) -> SharedChange:
    """Put it back wherever it is in force."""
    return _act(change, number, "put many machines back", shared_changes.put_back)


def _act(
    change: TheChange, number: int, action: str, act: Callable[..., SharedChange]
) -> SharedChange:
    with change.context.db.write() as conn:
        after = act(conn, number, who=change.who, at=change.now)
        change.audit(conn, action, after.name)
        change.tell(conn, EventKind.SETTING)
    for machine in after.machines:
        change.context.wakeups.notify_machine(machine.machine_id)
    return after
