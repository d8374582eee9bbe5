"""The watch: outlooks are made anew, and what needs a person begins and ends.

It looks at machines to which something happened, and at all of them every few minutes, for what
comes about merely because time passes.
"""

from __future__ import annotations

import asyncio
import logging
import time

from phylax import __version__
from phylax.core.attention import keep, look
from phylax.core.ground.events import EventKind
from phylax.service.context.context import Context
from phylax.service.trends import forecasts
from phylax.service.upkeep import advising
from phylax.store.attention import attention, attention_inputs
from phylax.store.clients import shop
from phylax.store.file import events
from phylax.store.trends import outlooks as outlook_store

WHOLE_EVERY = 300
_AT_ONCE = 500
_CALM = 3.0
"""Seconds from a change to the turn: much that happens at once is looked at once."""
_REST = 2.0
"""For so many times as long as it worked it rests where there is much to do."""
_log = logging.getLogger("phylax.watch")


def watch(context: Context) -> bool:
    """One turn; whether there is more to do at once."""
    refreshed = forecasts.refresh(context)
    now = context.now()
    with context.db.read() as conn:
        if shop.shop(conn) is None:
            return False
        event, whole_at = attention.watched(conn)
        happened = attention.machines_since(conn, event)
        whole = happened is None or not 0 <= now - whole_at < WHOLE_EVERY
        newest, wanted = (events.newest(conn), set()) if happened is None else happened
        wanted |= refreshed.machine_ids
    _advise(context, refreshed.machine_ids)
    with context.db.read() as conn:
        if whole:
            wanted |= attention_inputs.candidates(conn, at=now, newest_agent=__version__)
    look_at(context, sorted(wanted))
    if whole or wanted:
        with context.db.write() as conn:
            attention.note_watched(conn, newest, now if whole else None)
            if whole:
                attention.forget_old(conn, at=now)
    return refreshed.more


def _advise(context: Context, machine_ids: set[int]) -> None:
    """What is proposed to clients follows the outlooks of their machines."""
    if machine_ids:
        with context.db.write() as conn:
            for number in sorted(machine_ids):
                advising.propose(conn, number, at=context.now())


def look_at(context: Context, machine_ids: list[int]) -> None:
    """What begins, goes on and ends on some machines; written only where it changed."""
    for start in range(0, len(machine_ids), _AT_ONCE):
        some = machine_ids[start : start + _AT_ONCE]
        now = context.now()
        with context.db.read() as conn:
            kept = attention.kept(conn, some, at=now)
            stand = attention_inputs.standings(conn, some, at=now, newest_agent=__version__)
        findings_of = {standing.machine.id: look(standing) for standing in stand}
        changed = [
            number
            for number, findings in findings_of.items()
            if attention.changes(keep(findings, kept.get(number, ()), now), at=now)
        ]
        if not changed:
            continue
        with context.db.write() as conn:
            # somebody may have handled it while it was looked at
            kept = attention.kept(conn, changed, at=now)
            for number in changed:
                todo = keep(findings_of[number], kept.get(number, ()), now)
                if attention.carry_out(conn, todo, at=now):
                    events.publish(conn, EventKind.ATTENTION, at=now, machine_id=number)


def whole(context: Context) -> None:
    """All that is due, and all machines, at once: for a shop that was just made."""
    more = True
    while more:
        refreshed = forecasts.refresh(context)
        _advise(context, refreshed.machine_ids)
        more = refreshed.more
    with context.db.read() as conn:
        wanted = attention_inputs.candidates(conn, at=context.now(), newest_agent=__version__)
    look_at(context, sorted(wanted))


def _is_due(context: Context) -> bool:
    with context.db.read() as conn:
        event, whole_at = attention.watched(conn)
        return (
            outlook_store.any_due(conn)
            or events.newest(conn) != event
            or not 0 <= context.now() - whole_at < WHOLE_EVERY
        )


def turn(context: Context) -> bool:
    """A turn where one is due."""
    return _is_due(context) and watch(context)


async def keep_watch(context: Context) -> None:
    """Watch until the service stops: some seconds after a change, and every so often."""
    while not context.wakeups.stopping.is_set():
        change = context.wakeups.change()
        context.beat("watch")
        try:
            began = time.monotonic()
            while await asyncio.to_thread(turn, context) and not context.wakeups.stopping.is_set():
                # outlooks of many volumes, some at a time: what comes in has most of the time
                await context.wakeups.wait_for_stop(_REST * (time.monotonic() - began))
                context.beat("watch")
                began = time.monotonic()
        except Exception:  # noqa: BLE001
            # one bad turn must not end all later ones
            _log.exception("monitoring failed once; it continues")
        await context.wakeups.wait_for(change, WHOLE_EVERY / 2)
        # what comes in goes first
        await context.wakeups.wait_for_stop(_CALM)
