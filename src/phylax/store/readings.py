"""Readings of volumes: hour by hour for a while, a line a day for ever."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable

from phylax.core.shop import ReadingIn
from phylax.core.trends import Reading
from phylax.core.values import to_seconds

Connection = sqlite3.Connection
DAY = 86400
HOURLY_KEPT = 90 * DAY


def add(conn: Connection, machine_id: int, readings: Iterable[ReadingIn]) -> None:
    """Store readings; a repeated one changes nothing, a late one does not move the volume back."""
    for reading in readings:
        at = to_seconds(reading.at)
        before = conn.execute(
            "SELECT read_at FROM volumes WHERE machine_id = ? AND mount = ?",
            (machine_id, reading.mount),
        ).fetchone()
        volume_id = _volume(conn, machine_id, reading)
        add_points(conn, volume_id, [(at, reading.capacity, reading.free)])
        if before and before["read_at"] // DAY < at // DAY:
            # once a day for each volume: work that grows with what is new, not with what is there
            forget_old_hours(conn, volume_id, at=at)


def add_points(conn: Connection, volume_id: int, points: list[tuple[int, int, int]]) -> None:
    """Store (time, capacity, free) of one volume, and keep up the day's line."""
    conn.executemany(
        "INSERT OR IGNORE INTO readings VALUES (?, ?, ?, ?)", [(volume_id, *p) for p in points]
    )
    conn.executemany(
        """
        INSERT INTO reading_days VALUES (:volume, :day, :capacity, :free, :free, :free, :at)
        ON CONFLICT (volume_id, day) DO UPDATE SET
            low = min(low, excluded.low),
            high = max(high, excluded.high),
            free = iif(excluded.last_at >= last_at, excluded.free, free),
            capacity = iif(excluded.last_at >= last_at, excluded.capacity, capacity),
            last_at = max(last_at, excluded.last_at)
        """,
        [
            {"volume": volume_id, "day": at // DAY, "capacity": capacity, "free": free, "at": at}
            for at, capacity, free in points
        ],
    )


def _volume(conn: Connection, machine_id: int, reading: ReadingIn) -> int:
    row = conn.execute(
        """
        INSERT INTO volumes
            (machine_id, mount, name, disk, file_system, capacity, free, read_at)
        VALUES (:machine, :mount, :name, :disk, :file_system, :capacity, :free, :at)
        ON CONFLICT (machine_id, mount) DO UPDATE SET
            name = excluded.name, disk = excluded.disk, file_system = excluded.file_system,
            capacity = iif(excluded.read_at >= read_at, excluded.capacity, capacity),
            free = iif(excluded.read_at >= read_at, excluded.free, free),
            read_at = max(read_at, excluded.read_at)
        RETURNING id
        """,
        {
            "machine": machine_id,
            "mount": reading.mount,
            "name": reading.name,
            "disk": reading.disk,
            "file_system": reading.file_system,
            "capacity": reading.capacity,
            "free": reading.free,
            "at": to_seconds(reading.at),
        },
    ).fetchone()
    return int(row[0])


def hourly(conn: Connection, volume_id: int, since: int, until: int) -> list[Reading]:
    """Single readings of a span, in order."""
    rows = conn.execute(
        """
        SELECT at, capacity, free FROM readings
        WHERE volume_id = ? AND at BETWEEN ? AND ? ORDER BY at
        """,
        (volume_id, since, until),
    )
    return [Reading(at, capacity, free, free, free) for at, capacity, free in rows]


def daily(conn: Connection, volume_id: int, since: int, until: int) -> list[Reading]:
    """A line for each day of a span, in order."""
    rows = conn.execute(
        """
        SELECT last_at, capacity, low, high, free FROM reading_days
        WHERE volume_id = ? AND day BETWEEN ? AND ? ORDER BY day
        """,
        (volume_id, since // DAY, until // DAY),
    )
    return [Reading(*row) for row in rows]


def days_of_machines(
    conn: Connection, machine_ids: Iterable[int], since: int
) -> dict[tuple[int, int], list[Reading]]:
    """The days since a time of all volumes of some machines, by (machine, volume)."""
    found: dict[tuple[int, int], list[Reading]] = {}
    rows = conn.execute(
        """
        SELECT v.machine_id, v.id, d.last_at, d.capacity, d.low, d.high, d.free
        FROM json_each(?) wanted
        JOIN volumes v ON v.machine_id = wanted.value
        JOIN reading_days d ON d.volume_id = v.id AND d.day >= ?
        ORDER BY v.machine_id, v.id, d.day
        """,
        (json.dumps(list(machine_ids)), since // DAY),
    )
    for machine_id, volume_id, *reading in rows:
        found.setdefault((machine_id, volume_id), []).append(Reading(*reading))
    return found


def forget_old_hours(conn: Connection, volume_id: int, *, at: int) -> None:
    """Drop single readings older than are kept; their days stay."""
    conn.execute(
        "DELETE FROM readings WHERE volume_id = ? AND at < ?", (volume_id, at - HOURLY_KEPT)
    )
