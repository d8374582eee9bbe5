"""Checks of an order, one after the other: each volume and disk told, a bad one only itself."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from datetime import UTC, datetime

from phylax.agent.outbox.spool import Spool
from phylax.agent.runtime.telling import OrderListener
from phylax.agent.workers.crew import Crew
from phylax.core.checks.findings import MOST_CHECKED, Checked, could_not_look
from phylax.core.checks.kind import kinds
from phylax.core.protocol import CheckedMessage, CheckOrder, Progress


def look_by_checks(order: CheckOrder, crew: Crew, spool: Spool, listener: OrderListener) -> None:
    """Check what is ordered; what came of it is in the spool when this returns. Raises Stopped
    and ShutDown; what was checked until then is told."""
    done: list[Checked] = []

    def breathe() -> None:
        listener.check()
        listener.tell(Progress(step="check"))

    try:
        for key in order.checks:
            breathe()
            done += _check(key, crew, breathe)
    finally:
        if done:
            checked = tuple(done[:MOST_CHECKED])
            spool.put(CheckedMessage(id=uuid.uuid4().hex, run_id=order.run_id, checked=checked))


def _check(key: str, crew: Crew, breathe: Callable[[], None]) -> list[Checked]:
    started, machine = datetime.now(UTC), crew.machine
    if key in crew.guard.never_checks:
        return [could_not_look(key, "", started, "named by this machine's own guard")]
    kind = kinds().get(key)
    if kind is None or machine.system not in kind.systems:
        return [could_not_look(key, "", started, "this agent has no such check")]
    try:
        return list(machine.check(key, breathe))
    except OSError as failure:
        why = failure.strerror or type(failure).__name__
        return [could_not_look(key, "", started, why)]
