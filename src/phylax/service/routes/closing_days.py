"""Days on which the shop or a client is closed: rounds heed them."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter

from phylax.core.clients.shop import ClosingDays, ClosingDaysEdit
from phylax.core.ground.events import EventKind
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.problems import documented, invalid, not_found
from phylax.service.scheduling.timetable import place_all
from phylax.store.clients import closing_days, shop

router = APIRouter(prefix="/closing-days", tags=["rounds"])


@router.get("")
def list_closing_days(context: TheContext, actor: Signed) -> list[ClosingDays]:
    with context.db.read() as conn:
        return closing_days.closing_days(conn)


@router.post("", status_code=201, responses=documented(403, 422))
def add_closing_days(
    edit: ClosingDaysEdit, change: TheChange, technician: Technician
) -> ClosingDays:
    """Rounds that would run on these days are moved or left out, as each says."""
    with change.context.db.write() as conn:
        if edit.client_id is not None and shop.client(conn, edit.client_id) is None:
            raise invalid("/client_id", f"there is no client {edit.client_id}")
        made = _found(conn, closing_days.add(conn, edit, who=change.who, at=change.now))
        place_all(conn, at=change.now)
        change.audit(conn, "add closing days", made.name, after=made)
        change.tell(conn, EventKind.ROUND)
    return made


@router.delete("/{closing_id}", status_code=204, responses=documented(403, 404))
def remove_closing_days(closing_id: int, change: TheChange, technician: Technician) -> None:
    with change.context.db.write() as conn:
        before = _found(conn, closing_id)
        closing_days.remove(conn, closing_id)
        place_all(conn, at=change.now)
        change.audit(conn, "remove closing days", before.name, before)
        change.tell(conn, EventKind.ROUND)


def _found(conn: Connection, closing_id: int) -> ClosingDays:
    known = next((days for days in closing_days.closing_days(conn) if days.id == closing_id), None)
    if known is None:
        raise not_found("closing day", closing_id)
    return known
