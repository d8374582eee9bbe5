"""Making backups: by the plan, each one checked; which are kept is the plan's too."""

from __future__ import annotations

import asyncio
import logging
import os
import shutil
import sqlite3
import tempfile
import time
from datetime import datetime
from pathlib import Path
from sqlite3 import Connection
from zoneinfo import ZoneInfo

from phylax.core.backups.backups import Backup, BackupPlan, BackupState, is_due, kept, wrong
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.service.backups import encrypting
from phylax.service.backups.encrypting import END
from phylax.service.context.context import Context
from phylax.service.record import sealing
from phylax.store.backups import backups, copies
from phylax.store.backups.copies import BadCopyError, CopyChecked
from phylax.store.clients import shop
from phylax.store.erasing import forgotten_file
from phylax.store.record import audit

BESIDE = "backups"
"""Below the data directory, where no other place is set."""
MARK = ".phylax-backups"
_CLEAR = ".backup-"
_EVERY = 60.0
_FAILURES_KEPT = 90 * 86400
_log = logging.getLogger("phylax.backups")


class NoPlaceError(Exception):
    """The place of backups is not there, and says why."""


def place_of(context: Context, plan: BackupPlan) -> Path:
    return Path(plan.place) if plan.place else context.db.path.parent.resolve() / BESIDE


def take_place(place: Path) -> None:
    """Mark a folder as the place of backups. NoPlaceError where it cannot be one."""
    try:
        if not place.is_dir():
            raise NoPlaceError(f"There is no folder {place} on the service's machine.")
        (place / MARK).touch(mode=0o600)
    except OSError as error:
        raise NoPlaceError(f"{place} cannot be written: {error.strerror}.") from error


def make(context: Context, *, who: str = "") -> Backup:
    """Make one now. What came of it is kept, also where it came to nothing."""
    with context.making_backup:
        with context.db.read() as conn:
            plan = backups.plan(conn)
        now, began = context.now(), time.monotonic()
        place = place_of(context, plan)
        at = from_seconds(now)
        name = f"phylax-{at:%Y-%m-%dT%H%M%SZ}.sqlite3{END if plan.public_key else ''}"
        backup = Backup(id=0, at=at, name=name, place=str(place), size=0, seconds=0, entries=0,
                        head="", made_by=who)  # fmt: skip
        try:
            _check_place(place, plan, context.db.path)
            _clear_halves(place, context.db.path.parent)
            # with each backup a seal goes out, and lies in the backup too
            seal = sealing.make(context)
            checked = _copy(context.db.path, place / name, plan.public_key)
            (place / f"{name}.seal").write_text(seal.note, "utf-8")
            # whoever has the backups alone forgets again who was forgotten
            forgotten_file.carry(context.db.path.parent, place)
        except (OSError, sqlite3.Error, BadCopyError, NoPlaceError) as error:
            said = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
            backup = backup.model_copy(update={"why": f"{said}"[:500]})
            (place / name).unlink(missing_ok=True)
        except Exception:  # noqa: BLE001 - a torn file says anything; that it failed is kept
            _log.exception("a backup failed in an unforeseen way")
            backup = backup.model_copy(update={"why": "it failed; the service's log says why"})
            (place / name).unlink(missing_ok=True)
        else:
            backup = backup.model_copy(
                update={
                    "size": (place / name).stat().st_size,
                    "entries": checked.entries,
                    "head": checked.head,
                }
            )
        backup = backup.model_copy(update={"seconds": round(time.monotonic() - began, 3)})
        with context.db.write() as conn:
            number = backups.add(conn, backup)
            backups.forget_failures(conn, before=now - _FAILURES_KEPT)
            if who:
                audit.record(conn, who=who, at=now, action="back up", subject=backup.why or name)
        if backup.why:
            _log.error("no backup could be made in %s: %s", place, backup.why)
        else:
            _let_go(context, plan)
        return backup.model_copy(update={"id": number})


def _clear_halves(place: Path, data: Path) -> None:
    """What one that was killed left behind."""
    for half in place.glob("phylax-*.sqlite3*.part*"):
        half.unlink(missing_ok=True)
    for begun in (_CLEAR, encrypting.CLEAR):
        for folder in data.glob(f"{begun}*"):
            shutil.rmtree(folder, ignore_errors=True)


def _copy(file: Path, target: Path, public_key: str) -> CopyChecked:
    """The file as it is now, checked; encrypted where there is a key for it."""
    if not public_key:
        copies.copy(file, target)
        return copies.check(target)
    # in clear it lies beside the file alone, never where backups go
    with tempfile.TemporaryDirectory(dir=file.parent, prefix=_CLEAR) as folder:
        clear = Path(folder, file.name)
        copies.copy(file, clear)
        checked = copies.check(clear)
        encrypting.encrypt(clear, target, public_key)
        copies.to_disk(target.parent)
    return checked


def _check_place(place: Path, plan: BackupPlan, file: Path) -> None:
    if not plan.place:
        place.mkdir(mode=0o700, exist_ok=True)
        (place / MARK).touch(mode=0o600)
    elif not (place / MARK).exists():
        # a disk that is not mounted leaves its folder behind, on the service's own disk
        raise NoPlaceError(f"{place} is not the place that was set: is its disk there?")
    size = sum(part.stat().st_size for part in (file, Path(f"{file}-wal")) if part.exists())
    # encrypted, it lies for a moment beside the file as well
    for folder in {place, file.parent} if plan.public_key else {place}:
        if shutil.disk_usage(folder).free < size * (2 if plan.public_key else 1) + 16 * 2**20:
            raise NoPlaceError(f"{folder} has no room for {size} bytes")


def _let_go(context: Context, plan: BackupPlan) -> None:
    """Those that the plan does not keep; only ever files that were made here, by their names."""
    with context.db.read() as conn:
        here = backups.good(conn)
        zone = _zone(context)
    by_hand = {backup.at for backup in here if backup.made_by}
    wanted = kept([backup.at for backup in here], plan, zone, by_hand=by_hand)
    for backup in here:
        path = Path(backup.place, backup.name)
        if backup.at in wanted and path.exists():
            continue
        if not path.parent.is_dir():
            continue
        try:
            remove(context, backup)
        except OSError as error:
            _log.warning("backup %s stays: %s", path, error)


def remove(context: Context, backup: Backup) -> None:
    """With the seal beside it. OSError where it stays."""
    path = Path(backup.place, backup.name)
    path.unlink(missing_ok=True)
    Path(f"{path}.seal").unlink(missing_ok=True)
    with context.db.write() as conn:
        backups.note_gone(conn, backup.id, at=context.now())


def state(context: Context) -> BackupState:
    """How the shop is backed up now."""
    with context.db.read() as conn:
        plan = backups.plan(conn)
        good = next(iter(backups.good(conn)), None)
        said = what_is_wrong(conn, context.now())
    place = place_of(context, plan)
    return BackupState(
        plan=plan,
        newest_good=good,
        wrong=said,
        beside=_same_disk(place, context.db.path.parent),
    )


def what_is_wrong(conn: Connection, now: int) -> str:
    """What somebody has to see to; empty: nothing."""
    good = next(iter(backups.good(conn)), None)
    last = backups.last(conn)
    return wrong(
        good.at if good else None,
        last.why if last else "",
        from_seconds(now),
        from_seconds(shop.opened_at(conn)),
    )


def _same_disk(one: Path, other: Path) -> bool:
    try:
        return os.stat(one).st_dev == os.stat(other).st_dev
    except OSError:
        return one.is_relative_to(other)


def _zone(context: Context) -> ZoneInfo:
    with context.db.read() as conn:
        here = shop.shop(conn)
    return ZoneInfo(here.zone if here else "UTC")


def make_where_due(context: Context) -> Backup | None:
    with context.db.read() as conn:
        if shop.shop(conn) is None:
            return None
        plan, last = backups.plan(conn), backups.last(conn)
        opened = from_seconds(min(context.now(), shop.opened_at(conn)))
    now = from_seconds(context.now())
    if not is_due(_tried_at(last, opened, now), now, plan, _zone(context)):
        return None
    return make(context)


def _tried_at(last: Backup | None, opened: datetime, now: datetime) -> datetime | None:
    """When one was last made, or the shop opened; one that came to nothing is tried again after an
    hour."""
    if last is None:
        return opened
    failed_long_ago = last.why and to_seconds(now) - to_seconds(last.at) > 3600
    return None if failed_long_ago else last.at


async def keep_backups(context: Context) -> None:
    """Make backups by the plan until the service stops."""
    while not context.wakeups.stopping.is_set():
        context.beat("backup")
        try:
            await asyncio.to_thread(make_where_due, context)
        except Exception:  # noqa: BLE001
            _log.exception("a backup failed in an unforeseen way; the next is tried")
        await context.wakeups.wait_for_stop(_EVERY)
