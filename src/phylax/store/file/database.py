"""The connections to the one SQLite file: one writer at a time, readers beside it.

Opening applies the numbered schema files, each in a transaction, after an automatic copy. A file
that a newer Phylax wrote is refused.
"""

from __future__ import annotations

import os
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from importlib import resources
from pathlib import Path
from queue import Empty, LifoQueue

from phylax.store.schema.renaming import renamed_keys

_BUSY_SECONDS = 10.0
_COPIES_KEPT = 3
"""Of those that were made before the schema changed."""


class NewerFileError(Exception):
    """The file was written by a newer Phylax than this one."""


def migrations() -> list[tuple[int, str]]:
    """The schema files as (number, SQL), in order."""
    files = resources.files("phylax.store.schema").iterdir()
    scripts = [(int(f.name[:4]), f.read_text("utf-8")) for f in files if f.name.endswith(".sql")]
    return sorted(scripts)


def _for_this_user_alone(path: Path) -> None:
    """Make it where it is not there; what an earlier version left open to others is closed."""
    try:
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600))
    except FileExistsError:
        for end in ("", "-wal", "-shm"):
            with suppress(OSError):
                os.chmod(f"{path}{end}", 0o600)


def _undo(connection: sqlite3.Connection) -> None:
    """What failed for a full disk is undone already."""
    if connection.in_transaction:
        connection.execute("ROLLBACK")


class Database:
    """Owns the connections to one file. Callers only ask questions and make short changes."""

    def __init__(self, path: Path, *, schema: int | None = None) -> None:
        """Open or make the file and bring its schema up to date, or up to an earlier one.

        Raises NewerFileError for a file of a newer program, sqlite3.Error for what is no database,
        OSError where it cannot be written.
        """
        self.path = path
        # clients' names and hashed secrets lie here: for this user alone
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        _for_this_user_alone(path)
        self._write_lock = threading.Lock()
        self._readers: LifoQueue[sqlite3.Connection] = LifoQueue()
        self._listeners: list[Callable[[], None]] = []
        self._writer = self._connect()
        try:
            self._migrate(schema)
        except BaseException:
            self._writer.close()
            raise

    def _connect(self) -> sqlite3.Connection:
        connection = sqlite3.connect(
            self.path, timeout=_BUSY_SECONDS, isolation_level=None, check_same_thread=False
        )
        connection.row_factory = sqlite3.Row
        connection.execute("PRAGMA foreign_keys = ON")
        # what is deleted is gone from its page
        connection.execute("PRAGMA secure_delete = ON")
        # what was acknowledged is on the disk, even when the power goes
        connection.execute("PRAGMA synchronous = FULL")
        return connection

    def _migrate(self, schema: int | None) -> None:
        writer = self._writer
        known = [step for step in migrations() if schema is None or step[0] <= schema]
        version = writer.execute("PRAGMA user_version").fetchone()[0]
        newest = known[-1][0]
        if version > newest:
            raise NewerFileError(
                f"{self.path} has schema {version}, this Phylax knows up to {newest}; "
                "start the newer Phylax that wrote it"
            )
        writer.execute("PRAGMA journal_mode = WAL")
        if 0 < version < newest:
            self._copy_aside(version)
        # a table that others refer to can only be made anew while nobody minds
        writer.execute("PRAGMA foreign_keys = OFF")
        writer.create_function("renamed_keys", 2, renamed_keys, deterministic=True)
        for number, sql in known:
            if number > version:
                self._apply(number, sql)
        writer.execute("PRAGMA foreign_keys = ON")

    def _apply(self, number: int, sql: str) -> None:
        """One schema file, whole or not at all."""
        writer = self._writer
        try:
            writer.executescript(f"BEGIN IMMEDIATE;\n{sql}\nPRAGMA user_version = {number};")
            if broken := writer.execute("PRAGMA foreign_key_check").fetchone():
                raise sqlite3.IntegrityError(f"schema {number} would break {tuple(broken)}")
        except BaseException:
            _undo(writer)
            raise
        writer.execute("COMMIT")

    def _copy_aside(self, version: int) -> None:
        target = self.path.with_name(f"{self.path.name}.schema-{version}")
        part = target.with_name(f"{target.name}.part")
        # one that was cut off before must not stand in the way
        part.unlink(missing_ok=True)
        _for_this_user_alone(part)
        copy = sqlite3.connect(part)
        try:
            self._writer.backup(copy)
        finally:
            copy.close()
        part.replace(target)
        copies = {
            int(other.name.rpartition("-")[2]): other
            for other in self.path.parent.glob(f"{self.path.name}.schema-*")
            if other.name.rpartition("-")[2].isdecimal()
        }
        for number in sorted(copies)[:-_COPIES_KEPT]:
            copies[number].unlink(missing_ok=True)

    def on_commit(self, listener: Callable[[], None]) -> None:
        """Call this after every committed change, on the thread that made it."""
        self._listeners.append(listener)

    @contextmanager
    def write(self, *, check_references: bool = True) -> Iterator[sqlite3.Connection]:
        """A short transaction; committed when the block ends, undone when it raises. Whoever takes
        rows away in an order of its own does without the check that nothing hangs on them: it looks
        for what does, row by row."""
        with self._write_lock:
            if not check_references:
                self._writer.execute("PRAGMA foreign_keys = OFF")
            try:
                self._writer.execute("BEGIN IMMEDIATE")
                yield self._writer
                self._writer.execute("COMMIT")
            except BaseException:
                _undo(self._writer)
                raise
            finally:
                if not check_references:
                    self._writer.execute("PRAGMA foreign_keys = ON")
        for listener in self._listeners:
            listener()

    @contextmanager
    def read(self) -> Iterator[sqlite3.Connection]:
        """A connection for questions, consistent over the block."""
        try:
            connection = self._readers.get_nowait()
        except Empty:
            connection = self._connect()
            connection.execute("PRAGMA query_only = ON")
        try:
            connection.execute("BEGIN")
            yield connection
        finally:
            _undo(connection)
            self._readers.put(connection)

    def fold_log(self) -> bool:
        """Fold the write-ahead log into the file and empty it; whether no reader was in the way."""
        with self._write_lock:
            busy, _, _ = self._writer.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()
        return not busy

    def close(self) -> None:
        """Close every connection; the write-ahead log is folded into the file."""
        while True:
            try:
                self._readers.get_nowait().close()
            except Empty:
                break
        with self._write_lock:
            self._writer.close()
