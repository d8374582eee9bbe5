"""Sending what waits: oldest first, each message until the service has it."""

from __future__ import annotations

import logging
from contextlib import suppress

from phylax.agent.outbox.merging import Waiting, gathered
from phylax.agent.outbox.spool import Spool
from phylax.client import AgentLink, RefusedError, UnreachableError
from phylax.core.protocol import Message

_NEVER_TAKEN = (400, 409, 413, 422)
_log = logging.getLogger("phylax.agent")


class Sender:
    """Takes messages from the spool to the service."""

    def __init__(self, link: AgentLink, spool: Spool) -> None:
        self.link = link
        self.spool = spool

    def report_now(self, message: Message) -> None:
        """Send what is worth nothing later; lost where the service is not to be had."""
        with suppress(UnreachableError, RefusedError):
            self.link.report(message)

    def send_spooled(self) -> None:
        """Send what waits, oldest first.

        UnreachableError or RefusedError where the service is not to be had; the rest stays kept.
        """
        for waiting in gathered(self.spool.waiting()):
            if self._send(waiting):
                continue
            # one that is refused must not take others with it
            for single in waiting.of:
                alone = Waiting(single.message, single.age, [single])
                if len(waiting.of) == 1 or not self._send(alone):
                    self.spool.was_refused(single.path)

    def _send(self, waiting: Waiting) -> bool:
        """Whether the service took it; False where it never will."""
        try:
            self.link.report(waiting.message, age=waiting.age)
        except RefusedError as error:
            if error.status not in _NEVER_TAKEN or (error.status == 400 and not error.kind):
                # a proxy says 400 for reasons of its own, and the message is not to blame
                raise
            names = ", ".join(single.path.name for single in waiting.of)
            _log.error("the service will not take %s: %s", names, error)
            return False
        for single in waiting.of:
            self.spool.taken(single.path)
        return True
