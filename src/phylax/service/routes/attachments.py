"""Pictures and PDFs of entries: uploaded, then tied to the entry that is written."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Body, Query, Response

from phylax.core.record.attachments import MOST_BYTES, Attachment, AttachmentKind
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange
from phylax.service.problems import Problem, documented, invalid, not_found
from phylax.service.reporting.image_sanitizing import redrawn
from phylax.store.record import attachments

router = APIRouter(prefix="/attachments", tags=["records"])
_WIDEST = 3000
_MOST_WAITING = 40
_ALLOWED = "Send a picture (JPEG, PNG or WebP) or a PDF of at most 8 MiB."
_MEDIA = {"png": "image/png", "jpeg": "image/jpeg", "pdf": "application/pdf"}
_FILES: dict[int | str, dict[str, Any]] = {
    200: {
        "content": {
            media: {"schema": {"type": "string", "format": "binary"}} for media in _MEDIA.values()
        }
    }
}


@router.post("", status_code=201, responses=documented(409, 422))
def upload(
    change: TheChange,
    content: Annotated[bytes, Body(media_type="application/octet-stream", max_length=MOST_BYTES)],
    name: Annotated[str, Query(min_length=1, max_length=120, examples=["slip.jpg"])],
) -> Attachment:
    """Upload a picture or a PDF, then write the entry that it belongs to, within a day. Pictures
    are drawn anew, without what else lies in their file."""
    kind, kept = _kept(content)
    with change.context.db.write() as conn:
        if attachments.waiting_of(conn, change.who) >= _MOST_WAITING:
            raise Problem(409, "too-many", "Write the entries first to which your uploads belong.")
        number = attachments.add(conn, name, kind, kept, who=change.who, at=change.now)
        made = attachments.attachment(conn, number)
    assert made is not None
    return made


def _kept(content: bytes) -> tuple[AttachmentKind, bytes]:
    if content.startswith(b"%PDF-"):
        return "pdf", content
    try:
        return redrawn(
            content, widest=_WIDEST, highest=_WIDEST, formats=("JPEG", "PNG", "WEBP"),
            into="as it is",
        )  # fmt: skip
    except ValueError as error:
        raise invalid("/", f"This cannot be read: {error}. {_ALLOWED}") from None


@router.get("/{number}", response_class=Response, responses=_FILES | documented(404))
def download(number: int, context: TheContext, actor: Signed) -> Response:
    """A picture, or a PDF to be saved: nothing in it runs in the console."""
    with context.db.read() as conn:
        known = attachments.attachment(conn, number)
        content = attachments.content(conn, number)
    if known is None:
        raise not_found("attachment", number)
    way = "attachment" if known.kind == "pdf" else "inline"
    headers = {
        "Content-Disposition": f'{way}; filename="attachment-{number}.{known.kind}"',
        "Content-Security-Policy": "default-src 'none'; sandbox",
        "X-Content-Type-Options": "nosniff",
        "Cache-Control": "private, max-age=86400, immutable",
    }
    return Response(content, media_type=_MEDIA[known.kind], headers=headers)
