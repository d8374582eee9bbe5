"""Checks of an order, one after the other: each volume and disk told, a bad one only itself."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime

from phylax.agent.machines.upkeep import Watch
from phylax.agent.outbox.long_work import LongWork
from phylax.agent.outbox.spool import Spool
from phylax.agent.runtime.reporter import OrderListener
from phylax.agent.workers.crew import Crew
from phylax.core.checks.findings import MOST_CHECKED, Checked, could_not_look
from phylax.core.checks.kind import kinds
from phylax.core.protocol import CheckedMessage, CheckOrder, InventoryMessage


def look_by_checks(order: CheckOrder, crew: Crew, spool: Spool, listener: OrderListener) -> None:
    """Check what is ordered; what came of it is in the spool when this returns. Raises Stopped
    and ShutDown; what was checked until then is told."""
    for key in order.checks:
        watch = LongWork(listener, "check", key, order.earlier.get(key, ()))
        look_by_check(order.run_id, key, order.modes.get(key, ""), crew, watch, spool)


def look_by_check(run_id: int, key: str, mode: str, crew: Crew, watch: Watch, spool: Spool) -> None:
    """One check; what came of it until it ended or was ended is in the spool."""
    done: list[Checked] = []
    try:
        watch()
        _check(run_id, key, mode, crew, watch, spool, done)
    finally:
        if done:
            checked = tuple(done[:MOST_CHECKED])
            spool.put(CheckedMessage(id=uuid.uuid4().hex, run_id=run_id, checked=checked))


def _check(
    run_id: int,
    key: str,
    mode: str,
    crew: Crew,
    watch: Watch,
    spool: Spool,
    done: list[Checked],
) -> None:
    started, machine = datetime.now(UTC), crew.machine

    def unseen(why: str) -> None:
        done.append(could_not_look(key, "", started, why))

    kind = kinds().get(key)
    if key in crew.guard.never_checks:
        return unseen("named by this machine's own guard")
    if kind is None or machine.system not in kind.systems:
        return unseen("this agent has no such check")
    if mode and (why := kind.why_not(mode)):
        return unseen(why)
    try:
        for came in crew.check(key, mode or kind.usual_mode, watch):
            if isinstance(came, Checked):
                done.append(came)
            else:
                message = InventoryMessage(id=uuid.uuid4().hex, run_id=run_id, inventory=came)
                spool.put(message)
    except (OSError, ValueError) as failure:
        said = failure.strerror if isinstance(failure, OSError) else str(failure)
        unseen((said or type(failure).__name__)[:400])
