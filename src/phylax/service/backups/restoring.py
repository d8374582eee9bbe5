"""Putting a backup in the place of the shop's file, while no service runs; and rehearsing it."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Sequence
from contextlib import closing, suppress
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.service.context.context import system_clock
from phylax.store.backups import copies, restore_epoch
from phylax.store.backups.copies import BadCopyError, CopyChecked
from phylax.store.erasing import forgotten_file
from phylax.store.erasing.whole import again
from phylax.store.file.database import Database
from phylax.store.file.shop_file import FILE, HeldError, alone
from phylax.store.record import audit

__all__ = ["BadCopyError", "HeldError", "Outlook", "Rehearsed", "outlook", "rehearse", "restore"]


class Outlook(NamedTuple):
    """What a restore would do."""

    backup: CopyChecked
    newest: datetime | None
    """Of the backup's record."""
    replaced: CopyChecked | None
    """What is there now; None: nothing that can be read."""
    unreadable: str
    """Why not; empty where nothing is there, or it can be read."""


class Rehearsed(NamedTuple):
    """What a restore came to in a folder of its own."""

    seconds: float
    backup: CopyChecked


def outlook(data: Path, backup: Path) -> Outlook:
    """BadCopyError where the backup is none."""
    checked = copies.check(backup)
    replaced, why = None, ""
    if (data / FILE).exists():
        try:
            with tempfile.TemporaryDirectory(dir=data, prefix=".look-") as folder:
                # with what its log holds
                copies.copy(data / FILE, Path(folder, FILE))
                replaced = copies.check(Path(folder, FILE))
        except (BadCopyError, sqlite3.Error, OSError) as error:
            why = str(error)
    newest = from_seconds(checked.newest_at) if checked.newest_at else None
    return Outlook(checked, newest, replaced, why)


def restore(data: Path, backup: Path, known_in: Path | None = None) -> Path | None:
    """Put a backup in the place of the shop's file; where what was there is kept now, None where
    nothing was. OSError, BadCopyError, HeldError where a service runs. `known_in` is where backups
    lie, if not where this one does: who was forgotten is known there too.

    Whoever held agents' word for it is told: the records begin a new life, so that agents tell
    again what they hold. Cut off anywhere, the old file or the new one is there, whole.
    """
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    if (data / FILE).is_file():
        with alone(data, "a restore"):
            return _restore(data, backup, known_in or backup.parent)
    return _restore(data, backup, known_in or backup.parent)


def _restore(data: Path, backup: Path, known_in: Path) -> Path | None:
    looked = outlook(data, backup)
    now = system_clock()
    part = data / f"{FILE}.restoring"
    _prepare(part, backup, looked, now, [data, known_in])
    with suppress(OSError):
        forgotten_file.carry(known_in, data)
    kept = None
    if (data / FILE).exists():
        kept = data / f"{FILE}.replaced-{now:%Y-%m-%dT%H%M%SZ}"
        _set_aside(data / FILE, kept)
    os.replace(part, data / FILE)
    return kept


def _set_aside(file: Path, kept: Path) -> None:
    """Keep what is there under another name. Nothing of its log may stay: it would be taken for the
    new file's."""
    with suppress(sqlite3.Error), closing(sqlite3.connect(file)) as conn:
        conn.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        conn.execute("PRAGMA journal_mode = DELETE")
    for end in ("-wal", "-shm", "-journal"):
        if Path(f"{file}{end}").exists():
            os.replace(f"{file}{end}", f"{kept}{end}")
    try:
        # so that at no moment there is none
        os.link(file, kept)
    except OSError:
        os.replace(file, kept)


def rehearse(backup: Path) -> Rehearsed:
    """Restore into a folder of its own, which is gone afterwards. BadCopyError, OSError."""
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="phylax-rehearsal-") as folder:
        restore(Path(folder), backup)
        checked = copies.check(Path(folder, FILE))
    return Rehearsed(time.monotonic() - began, checked)


def _prepare(
    part: Path, backup: Path, looked: Outlook, now: datetime, known_in: Sequence[Path]
) -> None:
    """The backup as it will be there: with the newest schema, in a new life, with the word of it in
    the audit, and without those who were forgotten since."""
    for end in ("", "-wal", "-shm"):
        Path(f"{part}{end}").unlink(missing_ok=True)
    shutil.copyfile(backup, part)
    part.chmod(0o600)
    database = Database(part)
    try:
        with database.write() as conn:
            restore_epoch.renew(conn, at=to_seconds(now))
            audit.record(
                conn, who="the service's machine", at=to_seconds(now), action="restore",
                subject=_in_words(looked),
            )  # fmt: skip
        again(database, known_in, at=to_seconds(now))
    finally:
        database.close()
    for copied in part.parent.glob(f"{part.name}.schema-*"):
        # of an older one its copy is the backup itself
        copied.unlink()
    with closing(sqlite3.connect(part)) as conn:
        conn.execute("PRAGMA journal_mode = DELETE")
    with part.open("rb") as file:
        os.fsync(file.fileno())


def _in_words(looked: Outlook) -> str:
    head = looked.backup.head[:12] or "none"
    words = f"a backup of {looked.backup.entries} entries, the newest {head}"
    if looked.replaced is None:
        return f"{words}; what was there could not be read" if looked.unreadable else words
    lost = looked.replaced.entries - looked.backup.entries
    return f"{words}; {max(0, lost)} entries that came later are in the file that was replaced"
