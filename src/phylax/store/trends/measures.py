"""What is measured of the shop for other systems: counts and last readings, no histories."""

from __future__ import annotations

from collections.abc import Iterator
from sqlite3 import Connection
from typing import NamedTuple


class Counts(NamedTuple):
    machines: int
    enrolled: int
    heard: int
    outlooks_due: int
    attention: dict[str, int]
    runs: dict[str, int]
    notices: dict[str, int]
    freed: dict[str, int]


class VolumeMeasure(NamedTuple):
    machine: str
    client: str
    mount: str
    capacity: int
    free: int
    read_at: int
    crosses_at: int | None


def counts(conn: Connection) -> Counts:
    def number_of(sql: str) -> int:
        return int(conn.execute(sql).fetchone()[0])

    def by(sql: str) -> dict[str, int]:
        return {str(row[0]): int(row[1]) for row in conn.execute(sql)}

    return Counts(
        machines=number_of("SELECT count(*) FROM machines WHERE retired_at IS NULL"),
        enrolled=number_of("SELECT count(*) FROM agents"),
        heard=number_of(
            "SELECT count(*) FROM machines WHERE seen_at > unixepoch() - 86400"
            " AND retired_at IS NULL"
        ),
        outlooks_due=number_of("SELECT count(*) FROM outlooks_due"),
        attention=by("SELECT cause, count(*) FROM attention WHERE ended_at IS NULL GROUP BY cause"),
        runs=by(
            "SELECT state, count(*) FROM runs WHERE state IN ('waiting', 'offered', 'running')"
            " GROUP BY state"
        ),
        notices=by("SELECT state, count(*) FROM notices GROUP BY state"),
        freed=by(
            "SELECT category, size FROM shop_weeks"
            " WHERE week = (unixepoch() / 86400 + 3) / 7 * 7 - 3"
        ),
    )


def volumes(conn: Connection) -> Iterator[VolumeMeasure]:
    rows = conn.execute(
        """
        SELECT m.tag, c.name, v.mount, v.capacity, v.free, v.read_at, o.crosses_at
        FROM volumes v
        JOIN machines m ON m.id = v.machine_id
        JOIN clients c ON c.id = m.client_id
        LEFT JOIN outlooks o ON o.volume_id = v.id
        WHERE v.gone_at IS NULL AND m.retired_at IS NULL
        """
    )
    return (VolumeMeasure(*row) for row in rows)
