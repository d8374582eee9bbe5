"""Work in slices, each a short write."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from sqlite3 import Connection
from typing import TypeVar

from phylax.store.file.database import Database

T = TypeVar("T")
_GOAL = 0.08
"""Seconds that a slice should take; a write of somebody else waits no longer than a few."""
_FIRST, _MOST = 50, 5000


def in_slices(
    database: Database, things: Sequence[T], act: Callable[[Connection, Sequence[T]], object]
) -> None:
    """Do something with all of some things, as many at once as take a short time."""
    done, size = 0, _FIRST
    while done < len(things):
        began = time.monotonic()
        with database.write(check_references=False) as conn:
            act(conn, things[done : done + size])
        done += size
        spent = time.monotonic() - began
        size = max(1, min(_MOST, int(size * min(2.0, _GOAL / max(spent, 0.001)))))
        # writers that wait have their turn
        time.sleep(min(spent, 0.05))


def values(rows: Iterable[Sequence[object]]) -> list[tuple[object, ...]]:
    return [tuple(row) for row in rows]
