"""The head and foot of the shop's papers, and its mark."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.reporting.request import Letterhead, LetterheadEdit, NewMark
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Owner, Signed
from phylax.service.http.changes import Change, TheChange, check_match, with_etag
from phylax.service.problems import documented, invalid, not_found
from phylax.service.reporting import marks
from phylax.store.reporting import reports

router = APIRouter(prefix="/letterhead", tags=["reports"])
_CHANGED = documented(403, 412, 422, 428)


@router.get("")
def get_letterhead(context: TheContext, actor: Signed, response: Response) -> Letterhead:
    with context.db.read() as conn:
        letterhead = reports.letterhead(conn)
    with_etag(letterhead, response)
    return letterhead


@router.put("", responses=_CHANGED)
def put_letterhead(
    edit: LetterheadEdit, change: TheChange, owner: Owner, request: Request, response: Response
) -> Letterhead:
    """Say what stands at the head and foot of the shop's papers."""
    with change.context.db.write() as conn:
        before = _as_read(conn, request)
        reports.put_letterhead(conn, edit, who=change.who, at=change.now)
        after = _changed(conn, change, before)
    with_etag(after, response)
    return after


@router.get("/mark", response_class=Response, responses=documented(404))
def get_mark(context: TheContext, actor: Signed) -> Response:
    """The mark, as it was checked."""
    with context.db.read() as conn:
        kind, content = reports.mark(conn)
    if not content:
        raise not_found("mark", "of the shop")
    media = "image/svg+xml" if kind == "svg" else "image/png"
    headers = {
        "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; sandbox",
        "X-Content-Type-Options": "nosniff",
        "Cache-Control": "no-cache",
    }
    return Response(content, media_type=media, headers=headers)


@router.put("/mark", responses=_CHANGED)
def put_mark(
    new: NewMark, change: TheChange, owner: Owner, request: Request, response: Response
) -> Letterhead:
    """Upload the shop's mark. What could run, fetch or lead elsewhere is refused."""
    try:
        kind, content = marks.checked(new.content)
    except ValueError as error:
        raise invalid("/content", str(error)) from None
    with change.context.db.write() as conn:
        before = _as_read(conn, request)
        reports.put_mark(conn, kind, content, who=change.who, at=change.now)
        after = _changed(conn, change, before)
    with_etag(after, response)
    return after


@router.delete("/mark", status_code=204, responses=documented(403, 412, 428))
def delete_mark(change: TheChange, owner: Owner, request: Request) -> None:
    with change.context.db.write() as conn:
        before = _as_read(conn, request)
        reports.put_mark(conn, "", b"", who=change.who, at=change.now)
        _changed(conn, change, before)


def _as_read(conn: Connection, request: Request) -> Letterhead:
    letterhead = reports.letterhead(conn)
    check_match(request, letterhead, reports.letterhead_change(conn))
    return letterhead


def _changed(conn: Connection, change: Change, before: Letterhead) -> Letterhead:
    after = reports.letterhead(conn)
    change.audit(conn, "change letterhead", "the shop", before, after)
    return after
