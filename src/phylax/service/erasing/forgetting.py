"""Clients are forgotten: what it means is said before; it is carried out while the shop works."""

from __future__ import annotations

import asyncio
import logging
import sqlite3
from contextlib import suppress
from datetime import date, timedelta
from pathlib import Path
from sqlite3 import Connection

from phylax.core.clients.shop import Client
from phylax.core.erasing.forgetting.request import ForgetOutlook, Forgetting, means
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import to_seconds
from phylax.service.backups import making
from phylax.service.context.context import Context
from phylax.store.backups import backups
from phylax.store.clients import forgettings
from phylax.store.erasing import chain, data_retention, forgotten, forgotten_file
from phylax.store.erasing.spans import sweep_spans
from phylax.store.erasing.whole import again, carry_out
from phylax.store.file import events

_log = logging.getLogger("phylax.forgetting")
_EVERY = 3.0
_DAY = 86400


def outlook(conn: Connection, client: Client, *, today: date) -> ForgetOutlook:
    """What forgetting a client means as things stand; once it is asked for, how far it is."""
    already = forgettings.of_client(conn, client.id)
    if already is not None:
        return ForgetOutlook(client_name=client.name, retired=True, already=already)
    known = forgotten.counted(conn, client.id)
    words = forgettings.words_of(conn, client.id)
    good = backups.good(conn)
    plan = backups.plan(conn)
    last = today + timedelta(days=max(plan.daily, 7 * plan.weekly, 31 * plan.monthly))
    facts = ForgetOutlook(
        client_name=client.name,
        retired=client.retired_at is not None,
        machines=known.tags,
        entries=sum(map(len, chain.of_machines(conn, client.id).values())),
        elsewhere=len(chain.naming(conn, client.id, words)),
        reports=known.reports,
        attachments=known.attachments,
        held=known.held,
        changes=known.changes,
        agents=known.agents,
        backups=len(good),
        in_backups_until=last if good else None,
    )
    return facts.model_copy(update={"in_words": means(facts)})


def forget_again(context: Context) -> None:
    """Also where somebody put an older file in the place of the shop's by hand. What keeps it from
    that keeps nobody from working: what was begun goes on later."""
    try:
        again(context.db, [context.db.path.parent], at=context.now())
    except (OSError, sqlite3.Error) as error:
        _log.error("who was forgotten is not forgotten again yet: %s", error)


def go_on(context: Context) -> None:
    """Carry out what is due; once a day, what was kept for its span."""
    now = context.now()
    _sweep(context, now)
    with context.db.read() as conn:
        due = forgettings.due(conn, at=now)
    for asked in due:
        try:
            is_done = carry_out(context.db, asked.id, at=now)
            _note_beside_backups(context)
            if is_done and asked.with_backups:
                _drop_backups(context, asked)
        except (OSError, sqlite3.Error) as error:
            _log.error("forgetting client %s is cut off: %s", asked.client_id, error)
            with suppress(sqlite3.Error), context.db.write() as conn:
                forgettings.note(conn, asked.id, waits_for=str(error)[:200])
            continue
        if is_done:
            with context.db.write() as conn:
                forgettings.end(conn, asked.id, at=context.now())
                events.publish(conn, EventKind.CLIENT, at=context.now())


def _sweep(context: Context, now: int) -> None:
    with context.db.read() as conn:
        swept = data_retention.keeping(conn).swept_at
    if swept is not None and 0 <= now - to_seconds(swept) < _DAY:
        return
    try:
        sweep_spans(context.db, at=now)
    except (OSError, sqlite3.Error) as error:
        _log.error("what was kept for its span goes later: %s", error)


def _note_beside_backups(context: Context) -> None:
    """Whoever has nothing but the backups forgets again, too. Where their place is not there now,
    the next backup sees to it."""
    with context.db.read() as conn:
        place = making.place_of(context, backups.plan(conn))
    if place.is_dir():
        with suppress(OSError):
            forgotten_file.carry(context.db.path.parent, place)


def _drop_backups(context: Context, asked: Forgetting) -> None:
    """Those that were made before it ended; a new one first, so that there always is one."""
    with context.db.read() as conn:
        older = backups.good(conn)
    made = making.make(context, who=asked.requested_by)
    if made.why:
        raise OSError(f"no backup could be made in place of the older ones: {made.why}")
    for backup in older:
        # within one second, the new one took the place of the one before
        if (backup.place, backup.name) != (made.place, made.name):
            if not Path(backup.place).is_dir():
                raise OSError(f"{backup.place} is not there: a backup in it cannot be deleted")
            making.remove(context, backup)


async def keep_forgetting(context: Context) -> None:
    """Carry out forgettings as they are asked for, until the service stops."""
    while not context.wakeups.stopping.is_set():
        context.beat("forgetting")
        try:
            await asyncio.to_thread(go_on, context)
        except Exception:  # noqa: BLE001
            _log.exception("a forgetting failed in an unforeseen way; it goes on later")
        await context.wakeups.wait_for_stop(_EVERY)
