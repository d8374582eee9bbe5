"""Readings of volumes: each for a week, hour by hour for 90 days, a line a day for ever.

Days are kept up as readings arrive, and a volume's older ones are thinned out with its first report
of a day, so that nothing has to be stopped to roll them up.
"""

from __future__ import annotations

import json
from bisect import bisect_left
from collections.abc import Iterable, Sequence
from itertools import pairwise, repeat
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.readings import VolumeReadings
from phylax.core.trends import Reading, in_passing
from phylax.core.trends.lines import Line, with_reading

DAY = 86400
SINGLE_KEPT = 7 * DAY
HOURLY_KEPT = 90 * DAY
_WORTH_A_LOOK = 0.02
"""The share of a volume by which its free space may change before its outlook is made anew."""


class _Known(NamedTuple):
    id: int
    read_at: int
    capacity: int
    gone_at: int | None
    outlook_free: int | None


def add(
    conn: Connection,
    machine_id: int,
    readings: Iterable[VolumeReadings],
    *,
    of_all_volumes: bool = False,
) -> None:
    """Store readings; a repeated one changes nothing, a late one does not move the volume back.

    `of_all_volumes` says that each time read names all volumes the machine has; one that is not
    among them for a day is gone.
    """
    by_mount: dict[str, list[_Series]] = {}
    for told_series in readings:
        if told_series.capacity:
            by_mount.setdefault(told_series.mount, []).append(_in_order(told_series))
    for of_volume in by_mount.values():
        of_volume.sort(key=lambda series: series.at[-1])
        _add_to_volume(conn, machine_id, of_volume, by_mount)
    if of_all_volumes and by_mount:
        newest = max(of_volume[-1].at[-1] for of_volume in by_mount.values())
        conn.execute(
            """
            UPDATE volumes SET gone_at = :at
            WHERE machine_id = :machine AND gone_at IS NULL AND read_at < :at - 86400
            """,
            {"machine": machine_id, "at": newest},
        )


class _Series(NamedTuple):
    """What was read of a volume while it was the same, in order of time."""

    of: VolumeReadings
    at: Sequence[int]
    free: Sequence[int]


def _in_order(series: VolumeReadings) -> _Series:
    if all(earlier <= later for earlier, later in pairwise(series.at)):
        return _Series(series, series.at, series.free)
    at, free = zip(*sorted(zip(series.at, series.free, strict=True)), strict=True)
    return _Series(series, at, free)


def _add_to_volume(
    conn: Connection, machine_id: int, of_volume: Sequence[_Series], beside: Iterable[str]
) -> None:
    last, last_at, last_free = of_volume[-1].of, of_volume[-1].at[-1], of_volume[-1].free[-1]
    known = _known(conn, machine_id, last.mount)
    volume_id = _keep_volume(conn, machine_id, last, last_at, last_free)
    before = known.read_at if known else 0
    why = "" if known else _was_called(conn, machine_id, volume_id, last, last_at, set(beside))
    _keep_lines(conn, volume_id, of_volume, why)
    for series in of_volume:
        add_points(conn, volume_id, series.of.capacity, series.at, series.free)
    first_at = min(series.at[0] for series in of_volume)
    _thin_out(conn, volume_id, since=min(before, first_at), newest=max(before, last_at))
    if before // DAY < last_at // DAY:
        ask_outlook(conn, volume_id)
    elif known and known.outlook_free is not None:
        moved = abs(last_free - known.outlook_free) > _WORTH_A_LOOK * last.capacity
        if moved or known.gone_at is not None:
            ask_outlook(conn, volume_id)


def _known(conn: Connection, machine_id: int, mount: str) -> _Known | None:
    row = conn.execute(
        """
        SELECT v.id, v.read_at, v.capacity, v.gone_at, o.free
        FROM volumes v LEFT JOIN outlooks o ON o.volume_id = v.id
        WHERE v.machine_id = ? AND v.mount = ?
        """,
        (machine_id, mount),
    ).fetchone()
    return _Known(*row) if row else None


def _keep_volume(
    conn: Connection, machine_id: int, reading: VolumeReadings, at: int, free: int
) -> int:
    row = conn.execute(
        """
        INSERT INTO volumes
            (machine_id, mount, name, disk, file_system, capacity, free, read_at, identity)
        VALUES (:machine, :mount, :name, :disk, :file_system, :capacity, :free, :at, :identity)
        ON CONFLICT (machine_id, mount) DO UPDATE SET
            name = excluded.name, disk = excluded.disk, file_system = excluded.file_system,
            capacity = iif(excluded.read_at >= read_at, excluded.capacity, capacity),
            free = iif(excluded.read_at >= read_at, excluded.free, free),
            identity = iif(excluded.identity <> '', excluded.identity, identity),
            gone_at = iif(excluded.read_at >= read_at, NULL, gone_at),
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
            "free": free,
            "identity": reading.identity,
            "at": at,
        },
    ).fetchone()
    return int(row[0])


def _was_called(
    conn: Connection,
    machine_id: int,
    volume_id: int,
    reading: VolumeReadings,
    at: int,
    beside: set[str],
) -> str:
    """Where a new volume is a known one under another name: that one is gone at once."""
    if not reading.identity:
        return ""
    row = conn.execute(
        """
        SELECT id, mount FROM volumes
        WHERE machine_id = ? AND identity = ? AND id <> ? AND read_at < ?
          AND mount NOT IN (SELECT value FROM json_each(?))
        ORDER BY read_at DESC LIMIT 1
        """,
        (machine_id, reading.identity, volume_id, at, json.dumps(sorted(beside))),
    ).fetchone()
    if row is None:
        return ""
    conn.execute("UPDATE volumes SET gone_at = ? WHERE id = ?", (at, row["id"]))
    return f"it was {row['mount']} before"


def _keep_lines(conn: Connection, volume_id: int, of_volume: Sequence[_Series], why: str) -> None:
    known = lines(conn, volume_id)
    if known and min(series.at[0] for series in of_volume) >= known[-1].began_at:
        # nearly always: everything belongs to the present line
        last = known[-1]
        if all(
            last.fits(series.of.capacity, series.of.identity)
            and (last.identity or not series.of.identity)
            for series in of_volume
        ):
            return
    now = known
    kinds = sorted(
        (at, series.of.capacity, series.of.identity) for series in of_volume for at in series.at
    )
    for kind in kinds:
        now = with_reading(now, *kind)
    if now is known:
        return
    if not known and why:
        now = [now[0]._replace(why=why), *now[1:]]
    conn.execute("DELETE FROM volume_lines WHERE volume_id = ?", (volume_id,))
    conn.executemany(
        "INSERT INTO volume_lines VALUES (?, ?, ?, ?, ?)", [(volume_id, *line) for line in now]
    )
    ask_outlook(conn, volume_id)


def lines(conn: Connection, volume_id: int) -> list[Line]:
    """The stretches in which a volume stayed the same one, in order."""
    rows = conn.execute(
        """
        SELECT began_at, capacity, identity, why FROM volume_lines
        WHERE volume_id = ? ORDER BY began_at
        """,
        (volume_id,),
    )
    return [Line(*row) for row in rows]


def ask_outlook(conn: Connection, volume_id: int) -> None:
    """What can be said of a volume is to be looked at anew."""
    conn.execute("INSERT OR IGNORE INTO outlooks_due VALUES (?)", (volume_id,))


def ask_outlooks_of(conn: Connection, machine_id: int) -> None:
    conn.execute(
        "INSERT OR IGNORE INTO outlooks_due SELECT id FROM volumes WHERE machine_id = ?",
        (machine_id,),
    )


def add_points(
    conn: Connection, volume_id: int, capacity: int, at: Sequence[int], free: Sequence[int]
) -> None:
    """Store free bytes at times of one volume, in order of time, and keep up the days' lines."""
    conn.executemany(
        "INSERT OR IGNORE INTO readings VALUES (?, ?, ?, ?)",
        zip(repeat(volume_id), at, repeat(capacity), free, strict=False),
    )
    days = []
    begin = 0
    while begin < len(at):
        day = at[begin] // DAY
        end = bisect_left(at, (day + 1) * DAY, begin)
        low, high = min(free[begin:end]), max(free[begin:end])
        days.append((volume_id, day, capacity, low, high, free[end - 1], at[end - 1]))
        begin = end
    conn.executemany(
        """
        INSERT INTO reading_days VALUES (?, ?, ?, ?, ?, ?, ?)
        ON CONFLICT (volume_id, day) DO UPDATE SET
            low = min(low, excluded.low),
            high = max(high, excluded.high),
            free = iif(excluded.last_at >= last_at, excluded.free, free),
            capacity = iif(excluded.last_at >= last_at, excluded.capacity, capacity),
            last_at = max(last_at, excluded.last_at)
        """,
        days,
    )


def _thin_out(conn: Connection, volume_id: int, *, since: int, newest: int) -> None:
    """Of the days that are no longer kept reading by reading, keep the last of each hour and the
    day's lowest and highest; drop what is older than hours are kept.

    There are such days once a day for each volume, or where late readings came in: work that grows
    with what is new, not with what is there.
    """
    begin, end = (max(0, at - SINGLE_KEPT) // DAY * DAY for at in (since, newest))
    if begin >= end:
        return
    span = {"volume": volume_id, "begin": begin, "end": end}
    within = "volume_id = :volume AND at >= :begin AND at < :end"
    (number,) = conn.execute(f"SELECT count(*) FROM readings WHERE {within}", span).fetchone()
    # a machine that is on for some hours only has no more readings than a day has hours
    if number > 24 * (end - begin) // DAY:
        plain = conn.cursor()
        # tuples, not named rows: there may be thousands
        plain.row_factory = None
        rows = plain.execute(f"SELECT at, free FROM readings WHERE {within} ORDER BY at", span)
        conn.executemany(
            "DELETE FROM readings WHERE volume_id = ? AND at = ?",
            zip(repeat(volume_id), in_passing(rows.fetchall()), strict=False),
        )
    conn.execute(
        "DELETE FROM readings WHERE volume_id = ? AND at < ?", (volume_id, newest - HOURLY_KEPT)
    )


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


def lowest_shares(
    conn: Connection, machine_ids: Iterable[int], since: int, until: int, steps: int
) -> dict[tuple[int, int], list[float | None]]:
    """The lowest share free in each of so many equal parts of a span, by (machine, volume); None
    where nothing was read."""
    shares: dict[tuple[int, int], list[float | None]] = {}
    rows = conn.execute(
        """
        SELECT v.machine_id, v.id,
               min(:steps - 1, (d.last_at - :since) * :steps / (:until - :since)) AS step,
               round(min(d.low * 1.0 / d.capacity), 4)
        FROM json_each(:wanted) wanted
        CROSS JOIN volumes v ON v.machine_id = wanted.value
        CROSS JOIN reading_days d ON d.volume_id = v.id AND d.day >= :since / 86400
        WHERE d.last_at BETWEEN :since AND :until AND d.capacity > 0
        GROUP BY v.machine_id, v.id, step
        """,
        {
            "wanted": json.dumps(list(machine_ids)),
            "since": since,
            "until": until,
            "steps": steps,
        },
    )
    for machine_id, volume_id, step, share in rows:
        line = shares.setdefault((machine_id, volume_id), [None] * steps)
        line[step] = share
    return shares
