"""How long names are kept."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.erasing.data_retention import DataRetention, DataRetentionEdit
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Owner, Signed
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.problems import documented
from phylax.store.erasing import data_retention

router = APIRouter(prefix="/keeping", tags=["keeping"])


@router.get("")
def get_keeping(context: TheContext, actor: Signed, response: Response) -> DataRetention:
    """Spans after which names go: of files, in mails, of people who left."""
    with context.db.read() as conn:
        plan = data_retention.keeping(conn)
    with_etag(plan, response)
    return plan


@router.put("", responses=documented(403, 412, 422, 428))
def set_keeping(
    edit: DataRetentionEdit, change: TheChange, owner: Owner, request: Request, response: Response
) -> DataRetention:
    """What is older than a shorter span goes within the hour, for good."""
    with change.context.db.write() as conn:
        before = data_retention.keeping(conn)
        check_match(request, before, data_retention.changed(conn))
        data_retention.put(conn, edit, who=change.who, at=change.now)
        after = data_retention.keeping(conn)
        change.audit(conn, "change keeping", "spans of keeping", before, after)
    with_etag(after, response)
    return after
