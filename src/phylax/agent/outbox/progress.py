"""Telling the service how far a run is, while it goes on: progress, lines of a survey, listings."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable
from datetime import datetime
from typing import Protocol

from phylax.agent.outbox.spool import Spool
from phylax.core.ground.tally import Tally
from phylax.core.protocol import ListingMessage, Message, Progress, Step, SurveyPartMessage
from phylax.core.scheduling.pace import Pace
from phylax.core.survey import Item, SurveyKind, SurveyLine

_TELL_EVERY = 0.4
_PART_EVERY = 1.5
_PAGE = 500


class Listener(Protocol):
    """Who is told. Each may raise, to stop the work."""

    def check(self) -> None: ...

    def tell(self, progress: Progress) -> None: ...


class ProgressReporter:
    """Adds up a step's progress and tells it a few times a second."""

    def __init__(self, listener: Listener, step: Step, expect: Tally | None) -> None:
        self._listener = listener
        self._step = step
        self._expect = expect
        self._items = 0
        self._size = 0
        self._told = 0.0
        count = expect.count if expect else None
        self._pace = Pace(count, expect.size if expect else None, time.monotonic())

    def watch(self, category: str, items: int, size: int) -> None:
        """So much more is done. Raises what the listener raises."""
        self._items += items
        self._size += size
        self._listener.check()
        now = time.monotonic()
        if now - self._told < _TELL_EVERY:
            return
        self._told = now
        self._pace.note(now, self._items, self._size)
        rate = self._pace.items_per_second
        self._listener.tell(
            Progress(
                step=self._step,
                category=category,
                items=self._items,
                size=self._size,
                total_items=self._expect.count if self._expect else None,
                total_size=self._expect.size if self._expect else None,
                items_per_second=None if rate is None else round(rate, 1),
                seconds_left=self._pace.seconds_left,
            )
        )


class Parts:
    """Shows a survey's lines while it goes on, every other second; the whole survey follows."""

    def __init__(
        self, report: Callable[[Message], None], run_id: int, look: SurveyKind, started: datetime
    ) -> None:
        self._report = report
        self._run_id = run_id
        self._look = look
        self._started = started
        self._lines: list[SurveyLine] = []
        self._sent = time.monotonic()

    def add(self, lines: list[SurveyLine]) -> None:
        self._lines += lines
        if time.monotonic() - self._sent < _PART_EVERY or not self._lines:
            return
        self._report(
            SurveyPartMessage(
                id=uuid.uuid4().hex,
                run_id=self._run_id,
                survey_kind=self._look,
                started_at=self._started,
                lines=tuple(self._lines),
            )
        )
        self._lines.clear()
        self._sent = time.monotonic()


class Pages:
    """Spools the kept listings page by page."""

    def __init__(self, spool: Spool, run_id: int, look: SurveyKind) -> None:
        self._spool = spool
        self._run_id = run_id
        self._look = look
        self._category = ""
        self._items: list[Item] = []
        self._numbers: dict[str, int] = {}

    def add(self, category: str, item: Item) -> None:
        if category != self._category or len(self._items) == _PAGE:
            self.send()
            self._category = category
        self._items.append(item)

    def send(self) -> None:
        if self._items:
            self._spool.put(
                ListingMessage(
                    id=uuid.uuid4().hex,
                    run_id=self._run_id,
                    survey_kind=self._look,
                    category=self._category,
                    first_number=self._numbers.get(self._category, 1),
                    items=tuple(self._items),
                )
            )
            self._numbers[self._category] = self._numbers.get(self._category, 1) + len(self._items)
            self._items.clear()
