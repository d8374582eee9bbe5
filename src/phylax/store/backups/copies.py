"""Whole copies of the shop's file: made while it is in use, checked, put in its place."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

from phylax.core.record.records import verify
from phylax.store.file.database import migrations
from phylax.store.record import records


class CopyChecked(NamedTuple):
    """What a copy holds."""

    schema: int
    shop: str
    entries: int
    head: str
    newest_at: int
    """Of the record; 0: it has no entry."""


class BadCopyError(Exception):
    """It is no whole copy of a shop, and says why."""


def copy(source: Path, target: Path) -> None:
    """The file as it is at one moment, with what its log holds; on the disk when this returns.

    Written beside the target and renamed at the end. OSError, sqlite3.Error where it cannot be
    made.
    """
    part = target.with_name(f"{target.name}.part")
    part.unlink(missing_ok=True)
    os.close(os.open(part, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))
    try:
        with (
            # to read a log that a kill left behind takes the right to write beside it
            closing(sqlite3.connect(f"{source.absolute().as_uri()}?mode=rw", uri=True)) as here,
            closing(sqlite3.connect(part)) as there,
        ):
            here.execute("PRAGMA busy_timeout = 10000")
            # half a copy is thrown away, never mended
            there.execute("PRAGMA journal_mode = OFF")
            # within a transaction of its own: else each write of others makes it begin anew
            here.execute("BEGIN")
            here.execute("SELECT 1 FROM sqlite_schema").fetchone()
            here.backup(there, pages=2000, sleep=0.001)
            here.execute("ROLLBACK")
            # one file, nothing beside it
            there.execute("PRAGMA journal_mode = DELETE").fetchone()
        to_disk(part)
        os.replace(part, target)
        to_disk(target.parent)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


def check(path: Path) -> CopyChecked:
    """Open a copy and read all of it. BadCopyError says what is wrong with it."""
    if not path.is_file():
        raise BadCopyError(f"there is no file {path}")
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?immutable=1", uri=True)) as conn:
            conn.row_factory = sqlite3.Row
            return _checked(conn)
    except sqlite3.Error as error:
        raise BadCopyError(f"it is no whole copy of a shop's file: {error}") from error


def _checked(conn: sqlite3.Connection) -> CopyChecked:
    schema = conn.execute("PRAGMA user_version").fetchone()[0]
    newest = migrations()[-1][0]
    if not 0 < schema <= newest:
        raise BadCopyError(f"it has schema {schema}; this Phylax knows 1 to {newest}")
    for (said,) in conn.execute("PRAGMA integrity_check(5)"):
        if said != "ok":
            raise BadCopyError(f"it is damaged: {said}")
    if broken := conn.execute("PRAGMA foreign_key_check").fetchone():
        raise BadCopyError(f"it is damaged: {broken[0]} names what is not there")
    shop = conn.execute("SELECT name FROM shop").fetchone()
    if shop is None:
        raise BadCopyError("there is no shop in it")
    chain = verify(records.chain(conn))
    if not chain.intact:
        raise BadCopyError(f"its record is broken at entry {chain.broken_at}: {chain.why}")
    last = conn.execute("SELECT digest, at FROM records ORDER BY id DESC LIMIT 1").fetchone()
    return CopyChecked(
        schema=schema,
        shop=shop["name"],
        entries=chain.entries,
        head=last["digest"] if last else "",
        newest_at=last["at"] if last else 0,
    )


def to_disk(path: Path) -> None:
    """File or folder; where a folder cannot be asked for it (Windows), the rename is enough."""
    try:
        handle = os.open(path, os.O_RDONLY)
    except PermissionError:
        return
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
