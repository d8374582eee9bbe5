"""Which life of the records this is, and how far it has come."""

from __future__ import annotations

import secrets
from sqlite3 import Connection

from phylax.core.backups.restore_epochs import RestoreEpoch
from phylax.store.file import events


def current(conn: Connection) -> RestoreEpoch:
    """The life of the records, with the number of their newest event."""
    name = conn.execute("SELECT name FROM restore_epoch").fetchone()[0]
    return RestoreEpoch(name=name, come_to=events.newest(conn))


def began(conn: Connection) -> int:
    """Epoch second at which this life began."""
    return int(conn.execute("SELECT since FROM restore_epoch").fetchone()[0])


def renew(conn: Connection, *, at: int) -> None:
    """A new life begins."""
    conn.execute("UPDATE restore_epoch SET name = ?, since = ?", (secrets.token_hex(16), at))
