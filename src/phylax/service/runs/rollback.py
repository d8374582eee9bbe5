"""The records were set back to an earlier copy, and an agent noticed."""

from __future__ import annotations

import logging
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.protocol import RestoredMessage
from phylax.core.record.records import Entry, RecordKind
from phylax.store.backups import restore_epoch
from phylax.store.clients import shop
from phylax.store.record import audit, records

_ONE_LIFE = 3600
_log = logging.getLogger("phylax.records")


def take(conn: Connection, machine_id: int, message: RestoredMessage, *, at: int) -> None:
    """A new life of the records begins, so that agents notice who call later.

    Believed once an hour at most, for it makes every agent tell again what it holds.
    """
    same = message.restore_epoch == restore_epoch.current(conn).name
    # a clock that was set back does not count
    just_begun = 0 <= at - restore_epoch.began(conn) < _ONE_LIFE
    if not same or message.known_event <= message.newest_event or just_begun:
        return
    restore_epoch.renew(conn, at=at)
    text = (
        f"The records were restored from an older copy: this machine's agent knew of event "
        f"{message.known_event}, the newest here was {message.newest_event}. What was reported in "
        "between is lost. Agents report again what they hold."
    )
    (machine,) = shop.machines_by_id(conn, [machine_id])
    _log.warning("%s: %s", machine.tag, text)
    entry = Entry(
        machine_id=machine_id,
        at=from_seconds(at),
        who="Phylax",
        kind=RecordKind.MACHINE,
        text=text,
    )
    records.append(conn, entry)
    audit.record(conn, who="Phylax", at=at, action="records set back", subject=machine.tag)
