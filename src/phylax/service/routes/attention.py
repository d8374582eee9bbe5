"""What needs a person, and what people do about it."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.attention import Attention, AttentionEdit, Handling, in_order
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.record.records import Entry, RecordKind
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.problems import documented, invalid, not_found
from phylax.store.attention import attention
from phylax.store.record import records

router = APIRouter(prefix="/attention", tags=["attention"])


@router.get("")
def get_attention(
    context: TheContext, actor: Signed, machine_id: int | None = None, all: bool = False
) -> list[Attention]:
    """What needs a person, most urgent first; with `all`, also what was put off or settled."""
    with context.db.read() as conn:
        items = attention.all_open(conn, at=context.now(), machine_id=machine_id)
    return in_order(item for item in items if all or item.needs_somebody)


@router.get("/{attention_id}", responses=documented(404))
def get_one_attention(
    attention_id: int, context: TheContext, actor: Signed, response: Response
) -> Attention:
    with context.db.read() as conn:
        item = _find(conn, attention_id, context.now())
    with_etag(item, response)
    return item


@router.put("/{attention_id}", responses=documented(404, 412, 422, 428))
def handle_attention(
    attention_id: int, edit: AttentionEdit, change: TheChange, request: Request, response: Response
) -> Attention:
    """Take it on, put it off, settle it with a word, or give it back."""
    until = None if edit.snooze_until is None else to_seconds(edit.snooze_until)
    if until is not None and not change.now < until < change.now + 366 * 86400:
        raise invalid("/snooze_until", "put it off until a time within a year")
    with change.context.db.write() as conn:
        before = _find(conn, attention_id, change.now)
        check_match(request, before, (before.handled_by or "the watch", change.now))
        attention.handle(
            conn,
            attention_id,
            edit.handling,
            who=change.who,
            at=change.now,
            until=until,
            word=edit.comment.strip(),
        )
        after = _find(conn, attention_id, change.now)
        if edit.handling is Handling.SETTLED:
            text = f"Settled: {before.reason}. {edit.comment.strip()}"
            records.append(
                conn,
                Entry(
                    machine_id=before.machine_id,
                    at=from_seconds(change.now),
                    who=change.who,
                    kind=RecordKind.NOTE,
                    text=text,
                ),
            )
            change.tell(conn, EventKind.RECORD, before.machine_id)
        change.audit(conn, f"attention: {edit.handling}", before.machine_tag, before, after)
        change.tell(conn, EventKind.ATTENTION, before.machine_id)
    with_etag(after, response)
    return after


def _find(conn: Connection, attention_id: int, at: int) -> Attention:
    item = attention.one(conn, attention_id, at=at)
    if item is None:
        raise not_found("attention", attention_id)
    return item
