"""Calendar feeds: made, listed, withdrawn, and read by calendars at their private address."""

from __future__ import annotations

from hashlib import sha256
from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.scheduling.calendars import Feed, FeedEdit, FeedShown
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician, hashed, new_secret
from phylax.service.http.changes import TheChange
from phylax.service.problems import documented, invalid, not_found
from phylax.service.scheduling.feeds import calendar_of
from phylax.store.clients import shop
from phylax.store.people import people
from phylax.store.scheduling import calendars

router = APIRouter(prefix="/calendars", tags=["calendars"])
public = APIRouter(tags=["calendars"])


@router.get("")
def list_calendars(context: TheContext, actor: Signed) -> list[Feed]:
    """The feeds; their addresses were shown when they were made, and are not kept."""
    with context.db.read() as conn:
        return calendars.feeds(conn)


@router.post("", status_code=201, response_model=FeedShown, responses=documented(403, 409, 422))
def add_calendar(edit: FeedEdit, change: TheChange, technician: Technician) -> Response:
    """A feed for the shop, a person or a client. Whoever knows the address can read it."""

    def act(conn: Connection) -> FeedShown:
        secret, secret_hash = new_secret("calendar")
        _check(conn, edit)
        feed_id = calendars.add(conn, secret_hash, edit, who=change.who, at=change.now)
        made = calendars.feed(conn, feed_id)
        assert made is not None
        change.audit(conn, "make calendar address", made.name, after=made)
        return FeedShown(**made.model_dump(), path=f"/calendar/{secret}.ics")

    return change.once(edit, act, secret=True)


@router.delete("/{feed_id}", status_code=204, responses=documented(403, 404))
def withdraw_calendar(feed_id: int, change: TheChange, technician: Technician) -> None:
    """Withdraw a calendar address."""
    with change.context.db.write() as conn:
        before = calendars.feed(conn, feed_id)
        if before is None:
            raise not_found("calendar", feed_id)
        calendars.withdraw(conn, feed_id, at=change.now)
        change.audit(conn, "withdraw calendar address", before.name, before)


@public.get("/calendar/{address}.ics", responses=documented(400, 404, 414) | {304: {}})
def read_calendar(address: str, context: TheContext, request: Request) -> Response:
    """A feed as an iCalendar object (RFC 5545)."""
    now = context.now()
    with context.db.read() as conn:
        feed = calendars.by_address(conn, hashed(address))
        if feed is None:
            raise not_found("calendar", "this address")
        made = calendar_of(conn, feed, at=now)
    if calendars.read_is_old(feed, at=now):
        with context.db.write() as conn:
            calendars.was_read(conn, feed.id, at=now)
    etag = f'"{sha256(made).hexdigest()[:32]}"'
    headers = {"ETag": etag, "Cache-Control": "private, no-cache", "X-Robots-Tag": "noindex"}
    if request.headers.get("if-none-match") == etag:
        return Response(status_code=304, headers=headers)
    return Response(made, media_type="text/calendar; charset=utf-8", headers=headers)


def _check(conn: Connection, edit: FeedEdit) -> None:
    known = (
        edit.about == "shop"
        or (edit.about == "person" and people.by_id(conn, edit.subject_id))
        or (edit.about == "client" and shop.client(conn, edit.subject_id))
    )
    if not known:
        raise invalid("/subject_id", f"there is no {edit.about} {edit.subject_id}")
