"""Letting go what has been held for its time."""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import datetime

from phylax.agent.hold.hold import Hold
from phylax.agent.outbox.spool import Spool
from phylax.core.protocol import UnheldMessage

_log = logging.getLogger("phylax.agent")


def end_what_is_due(hold: Hold, spool: Spool, now: datetime, check: Callable[[], None]) -> None:
    """Let go what has had its time, or gives way, and sweep up what is empty. `check` is called now
    and then, and may raise to stop.

    The batch stays until it is noted for the service, so that nothing is forgotten however often
    this is cut off.
    """
    for batch in hold.due(now):
        last, stuck = 0, 0
        for entry in batch.announced():
            last = entry.number
            if batch.is_held(last):
                check()
                stuck += not batch.let_go(last, lambda path, why: None).whole
        if stuck:
            _log.error("%s held things of %s cannot be let go", stuck, batch.path)
            continue
        if last:
            spool.put(
                UnheldMessage(
                    id=f"gone-{batch.name}-{int(batch.head.held_at.timestamp())}",
                    batch=batch.name,
                    status="gone",
                    at=now,
                    # what was put back is known to be; this is of all others
                    numbers=((1, last),),
                )
            )
        batch.sweep_up()
        hold.forget_sums()
