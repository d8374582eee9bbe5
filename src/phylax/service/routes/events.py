"""Server-sent events: what changed, for those who watch. Resumable by `Last-Event-ID`."""

from __future__ import annotations

from collections.abc import AsyncIterable
from typing import Annotated

import anyio.to_thread
from fastapi import APIRouter, Header, Query, Request
from fastapi.sse import EventSourceResponse, ServerSentEvent

from phylax.core.events import Event
from phylax.service.context.context import Context, TheContext
from phylax.service.http.auth import Actor, Signed, is_still_signed_in
from phylax.store import events

router = APIRouter(tags=["events"])
_KEEP_ALIVE = 15.0


@router.get("/events", response_class=EventSourceResponse)
async def watch(
    request: Request,
    context: TheContext,
    actor: Signed,
    last_event_id: Annotated[int | None, Header(description="Continue after this event")] = None,
    after: Annotated[int | None, Query(ge=0, description="As Last-Event-ID")] = None,
) -> AsyncIterable[ServerSentEvent]:
    """Changes as they are committed. What something is now is asked for."""
    seen = last_event_id if last_event_id is not None else after
    if seen is None:
        seen = await anyio.to_thread.run_sync(_newest, context)
    yield ServerSentEvent(comment="watching", id=str(seen), retry=1000)
    while not context.wakeups.stopping.is_set():
        waiting = context.wakeups.change()
        news = await anyio.to_thread.run_sync(_since, context, actor, seen)
        if news is None:
            return
        for event in news:
            seen = event.id
            yield ServerSentEvent(event=event.kind, id=str(event.id), data=event)
        await context.wakeups.wait_for(waiting, _KEEP_ALIVE)


def _newest(context: Context) -> int:
    with context.db.read() as conn:
        return events.newest(conn)


def _since(context: Context, actor: Actor, seen: int) -> list[Event] | None:
    """What came since; None for whom may not know any more."""
    if not is_still_signed_in(context, actor):
        return None
    with context.db.read() as conn:
        return events.listed(conn, after=seen)
