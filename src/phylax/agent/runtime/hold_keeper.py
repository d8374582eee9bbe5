"""Keeping the hold: telling the service what is held, and seeing to what has had its time."""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import datetime

from phylax.agent.hold.batch import Batch
from phylax.agent.hold.hold import Hold
from phylax.agent.outbox.spool import Spool
from phylax.agent.workers.crew import Crew
from phylax.client import AgentLink, RefusedError
from phylax.core.hold.holds import HeldItem
from phylax.core.protocol import HeldMessage
from phylax.core.survey import spell

_PAGE = 500
_log = logging.getLogger("phylax.agent")


class HoldKeeper:
    """Keeps one machine's hold."""

    def __init__(
        self,
        hold: Hold,
        link: AgentLink,
        spool: Spool,
        check: Callable[[], None],
        crew: Crew,
    ) -> None:
        """`check` is called now and then, and may raise to stop."""
        self._hold = hold
        self._link = link
        self._spool = spool
        self._check = check
        self._crew = crew

    def end_what_is_due(self, now: datetime) -> None:
        """Let go what has had its time, or gives way."""
        self._crew.end_what_is_due(self._spool, now, self._check)

    def tell(self) -> None:
        """Tell the service what is held and not told yet; the hold itself keeps it until then.

        UnreachableError or RefusedError where the service is not to be had.
        """
        self._crew.tell_untold(self._report)
        for batch in self._hold.batches():
            if batch.is_told or batch.head.aside:
                continue
            page: list[HeldItem] = []
            length = batch.length
            for entry in batch.held():
                shown, _ = spell(entry.path)
                page.append(
                    HeldItem(number=entry.number, place=entry.place, path=shown, size=entry.size)
                )
                if len(page) == _PAGE:
                    self._send(batch, page)
                    page = []
            self._send(batch, page)
            batch.note_told(length)

    def _send(self, batch: Batch, page: list[HeldItem]) -> None:
        if not page:
            return
        head = batch.head
        message = HeldMessage(
            id=f"held-{batch.name}-{int(head.held_at.timestamp())}-{page[0].number}-{page[-1].number}",
            run_id=head.run_id,
            batch=batch.name,
            category=head.category,
            mount=head.mount,
            held_at=head.held_at,
            expires_at=head.until_at,
            items=tuple(page),
        )
        self._report(message)

    def _report(self, message: HeldMessage) -> None:
        try:
            self._link.report(message)
        except RefusedError as error:
            if error.status not in (409, 413, 422):
                raise
            # of another shop's times: it expires here all the same
            _log.error("the service will not take what is held in %s: %s", message.batch, error)
