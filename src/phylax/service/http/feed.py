"""What changed, read once for all who watch, however many they are.

Who does not take what they are sent is dropped, and catches up by `Last-Event-ID`; who may not know
any more is ended.
"""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

import anyio.to_thread

from phylax.core.ground.events import Event
from phylax.service.context.context import Context
from phylax.service.http.auth import Actor, is_still_signed_in
from phylax.service.problems import Problem
from phylax.store.file import events

MOST = 400
MOST_OF_PERSON = 40
MOST_BEHIND = 2000
"""Events that may wait for one who does not take them."""
_GATHERED = 0.05
_CHECKED_EVERY = 15.0
_log = logging.getLogger("phylax.service")


class Listener:
    """One who watches."""

    def __init__(self, actor: Actor) -> None:
        self.actor = actor
        self.is_over = False
        self._news: list[Event] = []
        self._came = asyncio.Event()

    def give(self, news: list[Event]) -> None:
        if len(self._news) + len(news) > MOST_BEHIND:
            self.end()
        if not self.is_over:
            self._news += news
            self._came.set()

    def end(self) -> None:
        self.is_over = True
        self._news = []
        self._came.set()

    async def next(self) -> list[Event] | None:
        """What came since; None where it is over."""
        await self._came.wait()
        self._came.clear()
        news, self._news = self._news, []
        return None if self.is_over else news


class Feed:
    """Lives on the event loop."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._listeners: set[Listener] = set()
        self._seen = 0

    def begin(self) -> None:
        """From what is there now on; before anybody listens."""
        with self._context.db.read() as conn:
            self._seen = events.newest(conn)

    @contextmanager
    def listening(self, actor: Actor) -> Iterator[Listener]:
        """Hear of all that comes from now on. Problem where too many watch already."""
        of_person = Counter(listener.actor.person.id for listener in self._listeners)
        if len(self._listeners) >= MOST or of_person[actor.person.id] >= MOST_OF_PERSON:
            raise Problem(
                429, "too-many-watch", "Too many watch already; close some of them.",
                headers={"Retry-After": "30"},
            )  # fmt: skip
        listener = Listener(actor)
        self._listeners.add(listener)
        try:
            yield listener
        finally:
            self._listeners.discard(listener)

    async def run(self) -> None:
        """Until the service stops."""
        wakeups = self._context.wakeups
        while not wakeups.stopping.is_set():
            changed = wakeups.change()
            try:
                await self._turn()
            except Exception:  # noqa: BLE001
                _log.exception("telling those who watch failed once; it continues")
            await wakeups.wait_for(changed, _CHECKED_EVERY)
            # much that changes at once is told at once
            await wakeups.wait_for_stop(_GATHERED)
        for listener in self._listeners:
            listener.end()

    async def _turn(self) -> None:
        news, over = await anyio.to_thread.run_sync(self._look, list(self._listeners))
        # who came meanwhile looked for what there was before this was read
        for listener in list(self._listeners):
            if listener in over:
                listener.end()
            elif news:
                listener.give(news)

    def _look(self, listeners: list[Listener]) -> tuple[list[Event], set[Listener]]:
        """What is new, and who may not know of it."""
        over = {
            listener
            for listener in listeners
            if not is_still_signed_in(self._context, listener.actor)
        }
        with self._context.db.read() as conn:
            news = events.listed(conn, after=self._seen, limit=MOST_BEHIND + 1)
        if news:
            self._seen = news[-1].id
        return news, over
