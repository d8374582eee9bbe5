"""What was deleted, gone from the pages of the file as well: of the indexes of words, of the log.

An index keeps the words of what it no longer finds until its parts are merged; the log keeps whole
pages as they were until it is folded into the file, which a reader can hold up.
"""

from __future__ import annotations

import time

from phylax.store.file.data_map import WORKED_OUT
from phylax.store.file.database import Database

_PAGES = 64


def merge_indexes(database: Database) -> None:
    """Until nothing is left to merge."""
    for index in sorted(WORKED_OUT):
        # so many parts as there are, not only those of one size
        pages = -16
        while True:
            with database.write() as conn:
                before = conn.total_changes
                conn.execute(f"INSERT INTO {index} ({index}, rank) VALUES ('merge', ?)", (pages,))
                is_done = conn.total_changes - before < 2
            if is_done and pages > 0:
                break
            pages = _PAGES
            time.sleep(0.002)


def fold_log(database: Database, *, seconds: float) -> bool:
    """Whether the log could be folded in and emptied; a reader keeps it from that."""
    until = time.monotonic() + seconds
    while True:
        if database.fold_log():
            return True
        if time.monotonic() > until:
            return False
        time.sleep(0.1)
