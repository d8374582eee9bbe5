"""Server-sent events: what changed, for those who watch. Resumable by `Last-Event-ID`."""

from __future__ import annotations

from collections.abc import AsyncIterable, AsyncIterator
from typing import Annotated

import anyio.to_thread
from fastapi import APIRouter, Depends, Header, Query, Request
from fastapi.sse import EventSourceResponse, ServerSentEvent

from phylax.core.ground.events import Event
from phylax.service.context.context import Context, TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.feed import Feed, Listener
from phylax.service.problems import documented
from phylax.store.file import events

router = APIRouter(tags=["events"])
_PAGE = 500


async def _listening(request: Request, actor: Signed) -> AsyncIterator[Listener]:
    """From before the answer begins, so that who is one too many gets a message."""
    feed: Feed = request.app.state.feed
    with feed.listening(actor) as listener:
        yield listener


@router.get("/events", response_class=EventSourceResponse, responses=documented(429))
async def watch(
    context: TheContext,
    listener: Annotated[Listener, Depends(_listening)],
    last_event_id: Annotated[
        int | None, Header(ge=0, le=2**53, description="Continue after this event")
    ] = None,
    after: Annotated[int | None, Query(ge=0, le=2**53, description="As Last-Event-ID")] = None,
) -> AsyncIterable[ServerSentEvent]:
    """Changes as they are committed. What something is now is asked for; `anew` says that the
    event to continue after is not known any more, so that all is asked for again."""
    oldest, newest = await anyio.to_thread.run_sync(_kept, context)
    seen = last_event_id if last_event_id is not None else after
    if seen is not None and not oldest - 1 <= seen <= newest:
        yield ServerSentEvent(event="anew", id=str(newest), data={})
        seen = None
    seen = newest if seen is None else seen
    yield ServerSentEvent(comment="watching", id=str(seen), retry=1000)
    while seen < newest:
        # what came before it listened
        for event in await anyio.to_thread.run_sync(_page, context, seen):
            seen = event.id
            yield ServerSentEvent(event=event.kind, id=str(event.id), data=event)
    while (news := await listener.next()) is not None:
        for event in news:
            if event.id > seen:
                seen = event.id
                yield ServerSentEvent(event=event.kind, id=str(event.id), data=event)


def _kept(context: Context) -> tuple[int, int]:
    """The oldest event that is kept, and the newest."""
    with context.db.read() as conn:
        return events.oldest(conn), events.newest(conn)


def _page(context: Context, seen: int) -> list[Event]:
    with context.db.read() as conn:
        return events.listed(conn, after=seen, limit=_PAGE)
