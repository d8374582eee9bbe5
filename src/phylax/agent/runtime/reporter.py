"""The service, told how far one order is; and the reasons to stop in the middle."""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import UTC, datetime

from phylax.agent.outbox.progress import ProgressReporter
from phylax.agent.survey.task import OutOfTime, Stopped, Watcher
from phylax.client import AgentLink, RefusedError, UnreachableError
from phylax.core.ground.tally import Tally
from phylax.core.protocol import Order, Progress, Step

_log = logging.getLogger("phylax.agent")


class ShutDown(Exception):
    """The agent itself is to stop; the run is taken up again at its next start."""


class OrderListener:
    """Is told how far one order is, and says when to stop."""

    def __init__(self, link: AgentLink, order: Order, shutting_down: Callable[[], bool]) -> None:
        self._link = link
        self._order = order
        self._shutting_down = shutting_down

    def watcher(self, step: Step, expect: Tally | None) -> Watcher:
        """Who is told of the next step."""
        return ProgressReporter(self, step, expect).watch

    def check(self) -> None:
        if self._shutting_down():
            raise ShutDown
        order = self._order
        end_by = getattr(order, "end_by", None)
        if end_by is not None and datetime.now(UTC) >= end_by:
            raise OutOfTime

    def tell(self, progress: Progress) -> None:
        """Stopped where the service says not to go on."""
        try:
            go_on = self._link.progress(self._order.run_id, self._order.lease, progress)
        except (UnreachableError, RefusedError) as error:
            # the work is worth finishing; its result is kept until it can be sent
            _log.info("progress not told: %s", error)
            return
        if not go_on:
            raise Stopped


def why_stopped(stop: Stopped) -> str:
    """The field of the result that says why the work was stopped."""
    return "timed_out" if isinstance(stop, OutOfTime) else "cancelled"
