"""Lists of clients and machines that were kept elsewhere, taken in."""

from __future__ import annotations

from fastapi import APIRouter, Response

from phylax.core.clients.importing.request import (
    ImportCommit,
    ImportDone,
    ImportPreview,
    ImportRequest,
)
from phylax.service.clients import importing
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange
from phylax.service.problems import documented
from phylax.store.clients import importing as kept

router = APIRouter(prefix="/imports", tags=["imports"])


@router.post("/preview", responses=documented(422))
def preview_import(asked: ImportRequest, context: TheContext, actor: Signed) -> ImportPreview:
    """What would become of each line of a CSV. Nothing is written."""
    with context.db.read() as conn:
        return importing.preview(conn, asked).preview


@router.post("", status_code=201, response_model=ImportDone, responses=documented(409, 422))
def take_in_list(asked: ImportCommit, change: TheChange) -> Response:
    """Take the list in as a preview said: all of it, or nothing where something changed since."""
    with change.context.db.read() as conn:
        before, prepared = kept.state(conn), importing.preview(conn, asked)
    return change.once(asked, lambda conn: importing.take_in(conn, asked, prepared, before, change))
