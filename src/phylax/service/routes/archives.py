"""Everything in a form that others can read: the shop, its record, one client."""

from __future__ import annotations

import re
from typing import Any

from fastapi import APIRouter
from fastapi.responses import StreamingResponse

from phylax.service.context.context import the_shop
from phylax.service.http.auth import Owner
from phylax.service.http.changes import Change, TheChange
from phylax.service.problems import documented
from phylax.service.record.archives import export_stream
from phylax.service.record.archives.writing import CLIENT, RECORD, SHOP
from phylax.service.routes.lookup import find_client

router = APIRouter(tags=["archives"])
_ZIP: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/zip": {"schema": {"type": "string", "format": "binary"}}}}
}


@router.get("/shop/archive", response_class=StreamingResponse,
            responses=_ZIP | documented(403, 409))  # fmt: skip
def take_out_shop(change: TheChange, owner: Owner) -> StreamingResponse:
    """Everything as a ZIP of JSON Lines and CSV with its description, from which `phylax shop load`
    builds the shop anew. That it was taken out is written down."""
    with change.context.db.read() as conn:
        name = the_shop(conn).name
    return _download(change, SHOP, "the whole shop", name)


@router.get("/records/archive", response_class=StreamingResponse,
            responses=_ZIP | documented(403, 409))  # fmt: skip
def take_out_record(change: TheChange, owner: Owner) -> StreamingResponse:
    """The record with its chain, to be verified without this service."""
    return _download(change, RECORD, "the record", "record")


@router.get("/clients/{client_id}/archive", response_class=StreamingResponse,
            responses=_ZIP | documented(403, 404, 409))  # fmt: skip
def take_out_client(client_id: int, change: TheChange, owner: Owner) -> StreamingResponse:
    """Everything about one client and their machines, and nothing of others."""
    with change.context.db.read() as conn:
        name = find_client(conn, client_id).name
    return _download(change, CLIENT, name, name, client_id)


def _download(
    change: Change, of: str, subject: str, name: str, client: int | None = None
) -> StreamingResponse:
    made = export_stream.make(change.context, of, subject, change.who, client)
    stem = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-") or of
    day = change.context.clock().date()
    return StreamingResponse(
        made.pieces(),
        media_type="application/zip",
        headers={
            "Content-Length": str(made.size),
            "Content-Disposition": f'attachment; filename="{stem}-{day}.zip"',
            # it is packed already
            "Content-Encoding": "identity",
            "Cache-Control": "no-store",
        },
    )
