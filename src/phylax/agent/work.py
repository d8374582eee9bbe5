"""Carrying out one order: look, clean, look again, and say truthfully how it went."""

from __future__ import annotations

import logging
import time
import uuid
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

from phylax.agent.cleaner import Cleaner
from phylax.agent.guard import Guard
from phylax.agent.journal import RunJournal
from phylax.agent.machines import MachineKind
from phylax.agent.spool import Spool
from phylax.agent.surveyor import Stopped, own_folders, survey
from phylax.client import AgentLink, RefusedError, UnreachableError
from phylax.core.orders import (
    CategoryOutcome,
    CleanOrder,
    ListingMessage,
    Message,
    Progress,
    ResultMessage,
    SurveyMessage,
    SurveyOrder,
    SurveyPartMessage,
)
from phylax.core.survey import Item, Look, SurveyLine

_TELL_EVERY = 0.4
_PART_EVERY = 1.5
_PAGE = 500
_log = logging.getLogger("phylax.agent")


class ShutDown(Exception):
    """The agent itself is to stop; the run is taken up again at its next start."""


class Worker:
    """Carries out one order on one machine."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        link: AgentLink,
        spool: Spool,
        runs: Path,
        shutting_down: Callable[[], bool],
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._link = link
        self._spool = spool
        self._runs = runs
        self._shutting_down = shutting_down

    def carry_out(self, order: SurveyOrder | CleanOrder) -> None:
        """Do what is ordered. The result is in the spool when this returns.

        Raises ShutDown where the agent is to stop; the journal then stays for the next start.
        """
        started = datetime.now(UTC)
        path = self._runs / f"{order.run_id}.jsonl"
        journal = RunJournal.begin(path, order, started.isoformat(), self._machine.volumes())
        try:
            self._spool.put(self._result(order, journal))
        except ShutDown:
            journal.close()
            raise
        journal.finish()

    def _result(self, order: SurveyOrder | CleanOrder, journal: RunJournal) -> ResultMessage:
        outcomes: tuple[CategoryOutcome, ...] = ()
        cleaner: Cleaner | None = None
        called_off, error = False, ""
        try:
            if isinstance(order, SurveyOrder):
                self._look(order, Look.FIRST)
            else:
                if order.look_first:
                    self._look(order, Look.FIRST)
                teller = _Teller(self, order, "clean")
                cleaner = Cleaner(
                    self._machine,
                    self._guard,
                    journal,
                    datetime.now(UTC),
                    teller.watch,
                    own_folders=own_folders(order.look),
                    protect=order.protect,
                )
                rules = {look.category: look.rule for look in order.look}
                for key in order.clean:
                    cleaner.clean(key, rules[key], order.agreed, standing=key in order.standing)
                self._look(order, Look.SECOND)
        except Stopped:
            called_off = True
        except (OSError, KeyError, ValueError) as failure:
            _log.exception("run %s failed", order.run_id)
            error = f"{type(failure).__name__}: {failure}"
        if isinstance(order, CleanOrder):
            outcomes = tuple(
                cleaner.outcomes.of(key, journal.removed_of(key))
                if cleaner
                else CategoryOutcome(category=key, removed=journal.removed_of(key))
                for key in order.clean
            )
            if cleaner and cleaner.outcomes.problems and not error:
                error = "; ".join(cleaner.outcomes.problems)
        return ResultMessage(
            # the same for the same work: if we are cut off after spooling it, it still counts once
            id=f"result-{order.run_id}-{order.lease}",
            run_id=order.run_id,
            started_at=datetime.fromisoformat(journal.begun["started_at"]),
            ended_at=datetime.now(UTC),
            outcomes=outcomes,
            left=tuple(cleaner.outcomes.named) if cleaner else (),
            before=journal.before,
            after=tuple(self._machine.volumes()),
            called_off=called_off,
            resumed=journal.resumed,
            error=error,
        )

    def _look(self, order: SurveyOrder | CleanOrder, look: Look) -> None:
        started = datetime.now(UTC)
        pages = _Pages(self._spool, order.run_id, look)
        teller = _Teller(self, order, look)
        parts = _Parts(self, order.run_id, look, started)
        lines = survey(
            self._machine,
            self._guard,
            order.look,
            started,
            protect=order.protect,
            watch=teller.watch,
            listing=pages.add,
            part=parts.add,
        )
        pages.send()
        self._spool.put(
            SurveyMessage(
                id=uuid.uuid4().hex,
                run_id=order.run_id,
                look=look,
                started_at=started,
                ended_at=datetime.now(UTC),
                lines=tuple(lines),
            )
        )
        # sent along the way, so that people see it; if not now, then with the result
        with suppress(UnreachableError, RefusedError):
            self.send_spooled()

    def report_now(self, message: Message) -> None:
        """Send what is worth nothing later; lost where the service is not to be had."""
        with suppress(UnreachableError, RefusedError):
            self._link.report(message)

    def tell(self, order: SurveyOrder | CleanOrder, progress: Progress) -> None:
        """Tell the service how far the run is. Stopped where it says not to go on."""
        try:
            go_on = self._link.progress(order.run_id, order.lease, progress)
        except (UnreachableError, RefusedError) as error:
            # the work is worth finishing; its result is kept until it can be sent
            _log.info("progress not told: %s", error)
            return
        if not go_on:
            raise Stopped

    def check(self) -> None:
        if self._shutting_down():
            raise ShutDown

    def send_spooled(self) -> None:
        """Send what waits, oldest first.

        UnreachableError or RefusedError where the service is not to be had; the rest stays kept.
        """
        for path, message in self._spool.waiting():
            try:
                self._link.report(message)
            except RefusedError as error:
                if error.status not in (409, 413, 422):
                    raise
                _log.error("the service will not take %s: %s", path.name, error)
                self._spool.was_refused(path)
            else:
                self._spool.taken(path)


class _Teller:
    """Adds up a step's progress and tells it a few times a second."""

    def __init__(self, worker: Worker, order: SurveyOrder | CleanOrder, step: str) -> None:
        self._worker = worker
        self._order = order
        self._step = step
        self._items = 0
        self._size = 0
        self._told = 0.0

    def watch(self, category: str, items: int, size: int) -> None:
        self._items += items
        self._size += size
        self._worker.check()
        now = time.monotonic()
        if now - self._told < _TELL_EVERY:
            return
        self._told = now
        self._worker.tell(
            self._order,
            Progress.model_validate(
                {
                    "step": self._step,
                    "category": category,
                    "items": self._items,
                    "size": self._size,
                }
            ),
        )


class _Parts:
    """Shows a look's lines while it goes on, every other second; the whole survey follows."""

    def __init__(self, worker: Worker, run_id: int, look: Look, started: datetime) -> None:
        self._worker = worker
        self._run_id = run_id
        self._look = look
        self._started = started
        self._lines: list[SurveyLine] = []
        self._sent = time.monotonic()

    def add(self, lines: list[SurveyLine]) -> None:
        self._lines += lines
        if time.monotonic() - self._sent < _PART_EVERY or not self._lines:
            return
        self._worker.report_now(
            SurveyPartMessage(
                id=uuid.uuid4().hex,
                run_id=self._run_id,
                look=self._look,
                started_at=self._started,
                lines=tuple(self._lines),
            )
        )
        self._lines.clear()
        self._sent = time.monotonic()


class _Pages:
    """Spools the kept listings page by page."""

    def __init__(self, spool: Spool, run_id: int, look: Look) -> None:
        self._spool = spool
        self._run_id = run_id
        self._look = look
        self._category = ""
        self._items: list[Item] = []
        self._number = 1

    def add(self, category: str, item: Item) -> None:
        if category != self._category or len(self._items) == _PAGE:
            self.send()
            if category != self._category:
                self._category, self._number = category, 1
        self._items.append(item)

    def send(self) -> None:
        if self._items:
            self._spool.put(
                ListingMessage(
                    id=uuid.uuid4().hex,
                    run_id=self._run_id,
                    look=self._look,
                    category=self._category,
                    first_number=self._number,
                    items=tuple(self._items),
                )
            )
            self._number += len(self._items)
            self._items.clear()
