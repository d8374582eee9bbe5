"""What happens because time passes: rounds fall due, runs are missed, offers lapse.

`tick` does all of it for one moment and may be called as often as one likes; it is driven by the
service and, with a clock of their own, by tests.
"""

from __future__ import annotations

import asyncio
import logging
from sqlite3 import Connection

from phylax.core.runs.runs import Run, RunState
from phylax.service.context.context import Context
from phylax.service.runs import queue
from phylax.service.runs.finish import give_up
from phylax.store.clients import agents, shop
from phylax.store.runs import leases, occurrences
from phylax.store.scheduling import presence, rounds

_LONGEST_SLEEP = 20.0
_log = logging.getLogger("phylax.scheduler")


def tick(context: Context) -> set[int]:
    """Do what is due now; the machines there is new work for."""
    now = context.now()
    with context.db.read() as conn:
        quiet = shop.shop(conn) is None or not (
            _is_due(rounds.next_due(conn), now)
            or _is_due(occurrences.next_closing(conn), now - 1)
            or leases.lapsed(conn, at=now)
            or presence.awake_note_is_due(conn, at=now)
        )
    if quiet:
        return set()
    with context.db.write() as conn:
        # first, so that what was missed meanwhile is known to be the service's own doing
        presence.note_awake(conn, at=now)
        nudged = queue.make_due(conn, at=now)
        nudged |= queue.close_windows(conn, at=now)
        for lapsed in leases.lapsed(conn, at=now):
            _lease_lapsed(conn, lapsed, now)
        agents.forget_old_messages(conn, at=now)
    return nudged


def _is_due(at: int | None, now: int) -> bool:
    return at is not None and at <= now


def _lease_lapsed(conn: Connection, run: Run, now: int) -> None:
    if who := leases.stop_asked_by(conn, run.id):
        give_up(conn, run, RunState.CALLED_OFF, f"called off by {who}", at=now)
    elif run.state is RunState.OFFERED:
        leases.take_back(conn, run.id)


async def keep_time(context: Context) -> None:
    """Tick until the service stops: when the next round is due, and every so often."""
    while not context.wakeups.stopping.is_set():
        context.beat("time")
        try:
            for machine_id in await asyncio.to_thread(tick, context):
                context.wakeups.notify_machine(machine_id)
            wait = await asyncio.to_thread(_until_next, context)
        except Exception:  # noqa: BLE001
            # one bad tick must not end all later ones
            _log.exception("the scheduler failed once; it continues")
            wait = _LONGEST_SLEEP
        await context.wakeups.wait_for_stop(wait)


def _until_next(context: Context) -> float:
    with context.db.read() as conn:
        due = rounds.next_due(conn)
    if due is None:
        return _LONGEST_SLEEP
    return min(_LONGEST_SLEEP, max(0.5, due - context.clock().timestamp()))
