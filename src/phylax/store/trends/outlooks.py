"""What can be said of each volume, what that stands on, and which are to be looked at anew."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import to_seconds
from phylax.core.protocol import ResultMessage
from phylax.core.runs.runs import Run
from phylax.core.survey import Ledger
from phylax.core.trends import Crossing, Outlook
from phylax.core.trends.points import Reading
from phylax.store.trends.readings import DAY, ask_outlook, ask_outlooks_of

_MOST_SUM = 2**60
"""What a sum comes to at most, so that no later one overflows, whatever a machine says."""
LOOKS_BACK = 120
"""Days of readings that an outlook stands on."""


class Ground(NamedTuple):
    """What an outlook of one volume stands on."""

    volume_id: int
    machine_id: int
    mount: str
    capacity: int
    read_at: int
    can_go: int | None
    threshold_percent: int
    began_at: int
    days: Sequence[Reading]
    cleanings: Sequence[tuple[int, int]]
    """(end in seconds, bytes freed on the volume)"""
    others: Sequence[tuple[str, int, int]]
    """(mount, capacity, free) of the machine's other volumes"""


def due(conn: Connection, limit: int) -> list[int]:
    """Volumes whose outlook is to be made anew."""
    rows = conn.execute("SELECT volume_id FROM outlooks_due ORDER BY volume_id LIMIT ?", (limit,))
    return [row[0] for row in rows]


def any_due(conn: Connection) -> bool:
    return conn.execute("SELECT 1 FROM outlooks_due LIMIT 1").fetchone() is not None


def grounds(conn: Connection, volume_ids: Iterable[int]) -> list[Ground]:
    """What the outlooks of some volumes stand on; gone volumes are not among them."""
    wanted = json.dumps(list(volume_ids))
    volumes = conn.execute(
        """
        SELECT v.id, v.machine_id, v.mount, v.capacity, v.read_at, v.removable,
               coalesce(m.threshold_percent, c.threshold_percent,
                        shop.threshold_percent) AS threshold,
               (SELECT max(began_at) FROM volume_lines l WHERE l.volume_id = v.id) AS began_at
        FROM json_each(?) wanted
        JOIN volumes v ON v.id = wanted.value
        JOIN machines m ON m.id = v.machine_id
        JOIN clients c ON c.id = m.client_id
        JOIN shop
        WHERE v.gone_at IS NULL AND m.retired_at IS NULL
        """,
        (wanted,),
    ).fetchall()
    days: dict[int, list[Reading]] = {}
    plain = conn.cursor()
    # tuples, not named rows: there are thousands
    plain.row_factory = None
    for volume_id, *reading in plain.execute(
        """
        SELECT v.id, d.last_at, d.capacity, d.low, d.high, d.free
        FROM json_each(?) wanted
        CROSS JOIN volumes v ON v.id = wanted.value
        CROSS JOIN reading_days d
            ON d.volume_id = v.id AND d.day >= v.read_at / 86400 - ?
        ORDER BY v.id, d.day
        """,
        (wanted, LOOKS_BACK),
    ):
        days.setdefault(volume_id, []).append(Reading._make(reading))
    cleanings: dict[int, list[tuple[int, int]]] = {}
    for volume_id, at, freed in conn.execute(
        """
        SELECT v.id, k.at, k.freed
        FROM json_each(?) wanted
        CROSS JOIN volumes v ON v.id = wanted.value
        CROSS JOIN volume_cleanings k ON k.volume_id = v.id AND k.at >= v.read_at - ?
        ORDER BY v.id, k.at
        """,
        (wanted, 2 * LOOKS_BACK * DAY),
    ):
        cleanings.setdefault(volume_id, []).append((at, freed))
    beside: dict[int, list[tuple[int, str, int, int]]] = {}
    for machine_id, *other in conn.execute(
        """
        SELECT machine_id, id, mount, capacity, free FROM volumes
        WHERE gone_at IS NULL AND machine_id IN (SELECT value FROM json_each(?))
        """,
        (json.dumps(sorted({row["machine_id"] for row in volumes})),),
    ):
        beside.setdefault(machine_id, []).append((other[0], other[1], other[2], other[3]))
    return [
        Ground(
            volume_id=row["id"],
            machine_id=row["machine_id"],
            mount=row["mount"],
            capacity=row["capacity"],
            read_at=row["read_at"],
            can_go=row["removable"],
            threshold_percent=row["threshold"],
            began_at=row["began_at"] or 0,
            days=days.get(row["id"], []),
            cleanings=cleanings.get(row["id"], []),
            others=[
                volume[1:] for volume in beside.get(row["machine_id"], []) if volume[0] != row["id"]
            ],
        )
        for row in volumes
    ]


def put(conn: Connection, outlooks: Iterable[tuple[Outlook, int]], done: Iterable[int]) -> None:
    """Keep outlooks, each with the free bytes it was made at; `done` need no new one now."""
    conn.executemany(
        "INSERT OR REPLACE INTO outlooks VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                outlook.volume_id,
                outlook.machine_id,
                free,
                *_times(outlook),
                int(outlook.changed is not None),
                int(outlook.over),
                outlook.advice.verdict if outlook.advice else None,
                outlook.model_dump_json(exclude_defaults=True),
            )
            for outlook, free in outlooks
        ],
    )
    conn.executemany(
        "DELETE FROM outlooks_due WHERE volume_id = ?", [(volume_id,) for volume_id in done]
    )


def _times(outlook: Outlook) -> tuple[int | None, int | None, int | None, int | None]:
    crosses, full = outlook.crosses or Crossing(), outlook.full or Crossing()
    moments = (crosses.soonest, crosses.likely, crosses.latest, full.likely)
    first, likely, latest, filled = (None if at is None else to_seconds(at) for at in moments)
    return first, likely, latest, filled


def of_machine(conn: Connection, machine_id: int) -> list[Outlook]:
    """The outlooks of a machine's volumes, by mount."""
    return of_machines(conn, [machine_id])


def of_machines(conn: Connection, machine_ids: Iterable[int]) -> list[Outlook]:
    rows = conn.execute(
        """
        SELECT o.outlook FROM json_each(?) wanted
        CROSS JOIN outlooks o ON o.machine_id = wanted.value
        CROSS JOIN volumes v ON v.id = o.volume_id AND v.gone_at IS NULL
        ORDER BY o.machine_id, v.mount
        """,
        (json.dumps(list(machine_ids)),),
    )
    return [Outlook.model_validate_json(row[0]) for row in rows]


def crossing_before(conn: Connection, at: int, limit: int) -> list[Outlook]:
    """The outlooks of volumes that likely cross their threshold before a time, soonest first."""
    rows = conn.execute(
        """
        SELECT o.outlook FROM outlooks o JOIN volumes v ON v.id = o.volume_id
        WHERE o.crosses_at IS NOT NULL AND o.crosses_at < ? AND v.gone_at IS NULL
        ORDER BY o.crosses_at LIMIT ?
        """,
        (at, limit),
    )
    return [Outlook.model_validate_json(row[0]) for row in rows]


def over_now(conn: Connection, limit: int) -> list[Outlook]:
    """The outlooks of volumes that are over their threshold, those that fill up first before."""
    rows = conn.execute(
        """
        SELECT o.outlook FROM outlooks o JOIN volumes v ON v.id = o.volume_id
        WHERE o.is_over AND v.gone_at IS NULL
        ORDER BY coalesce(o.full_at, 1 << 60) LIMIT ?
        """,
        (limit,),
    )
    return [Outlook.model_validate_json(row[0]) for row in rows]


def count_verdicts(conn: Connection) -> dict[str, int]:
    """Volumes by what is advised on how often they are cleaned."""
    rows = conn.execute(
        "SELECT verdict, count(*) FROM outlooks WHERE verdict IS NOT NULL GROUP BY verdict"
    )
    return {row[0]: row[1] for row in rows}


# --- what cleanings did ----------------------------------------------------------------------


def note_cleaning(conn: Connection, run: Run, result: ResultMessage, *, at: int) -> None:
    """What a cleaning freed on each volume that it was for, and by category in its week."""
    machine_id = run.machine_id
    volumes = dict(
        conn.execute("SELECT mount, id FROM volumes WHERE machine_id = ?", (machine_id,)).fetchall()
    )
    before = {reading.mount: reading.free for reading in result.before}
    for reading in result.after:
        if not run.volumes.covers(reading.mount):
            continue
        if reading.mount in before and reading.mount in volumes:
            volume_id = volumes[reading.mount]
            freed = max(0, reading.free - before[reading.mount])
            conn.execute(
                "INSERT OR REPLACE INTO volume_cleanings VALUES (?, ?, ?, ?)",
                (volume_id, at, run.id, freed),
            )
            ask_outlook(conn, volume_id)
    removed: dict[str, Tally] = {}
    for outcome in result.outcomes:
        so_far = removed.get(outcome.category, Tally())
        removed[outcome.category] = so_far + outcome.removed
    sums = [
        {
            "machine": machine_id, "week": week_of(at), "category": category,
            "size": tally.size, "items": tally.count, "most": _MOST_SUM,
        }
        for category, tally in removed.items()
    ]  # fmt: skip
    conn.executemany(
        """
        INSERT INTO freed_weeks VALUES (:machine, :week, :category, :size, :items, 1)
        ON CONFLICT DO UPDATE SET size = min(size + excluded.size, :most),
               items = min(items + excluded.items, :most), runs = runs + 1
        """,
        sums,
    )
    conn.executemany(
        """
        INSERT INTO shop_weeks VALUES (:week, :category, :size, :items, 1)
        ON CONFLICT DO UPDATE SET size = min(size + excluded.size, :most),
               items = min(items + excluded.items, :most), runs = runs + 1
        """,
        sums,
    )


def week_of(at: int) -> int:
    """The Monday of a time's week, in days since the epoch (UTC)."""
    return (at // DAY + 3) // 7 * 7 - 3


class WeekSum(NamedTuple):
    week: int
    category: str
    size: int
    items: int
    runs: int


def weeks_of_shop(conn: Connection, since: int) -> list[WeekSum]:
    """What was freed by week and category in the whole shop."""
    rows = conn.execute(
        "SELECT week, category, size, items, runs FROM shop_weeks WHERE week >= ? ORDER BY week",
        (week_of(since),),
    )
    return [WeekSum(*row) for row in rows]


def weeks_of_machines(
    conn: Connection, machine_ids: Iterable[int], since: int, until: int
) -> list[WeekSum]:
    """What was freed by week and category on some machines."""
    rows = conn.execute(
        """
        SELECT f.week, f.category, cast(total(f.size) AS INTEGER),
               cast(total(f.items) AS INTEGER), sum(f.runs)
        FROM json_each(?) wanted
        CROSS JOIN freed_weeks f ON f.machine_id = wanted.value AND f.week BETWEEN ? AND ?
        GROUP BY f.week, f.category ORDER BY f.week
        """,
        (json.dumps(list(machine_ids)), week_of(since), week_of(until)),
    )
    return [WeekSum(*row) for row in rows]


# --- what looks found ------------------------------------------------------------------------


class SurveySums(NamedTuple):
    """What each category held at a survey: (holds, goes)."""

    at: int
    second: bool
    sums: dict[str, tuple[int, int]]

    @property
    def holds(self) -> dict[str, int]:
        return {category: holds for category, (holds, _) in self.sums.items()}


def note_survey(
    conn: Connection, ledger: Ledger, *, second: bool, at: int, is_newest: bool = True
) -> None:
    """What a whole survey found, by category; and on each volume what can go."""
    sums = {
        line.category: (line.total.size, line.removable.size + line.needs_approval.size)
        for line in ledger.lines
        if line.total.size
    }
    conn.execute(
        "INSERT OR REPLACE INTO survey_sums VALUES (?, ?, ?, ?, ?)",
        (ledger.machine_id, at, ledger.survey_id, int(second), json.dumps(sums)),
    )
    conn.execute(
        "DELETE FROM survey_sums WHERE machine_id = ? AND at < ?",
        (ledger.machine_id, at - 400 * DAY),
    )
    if is_newest:
        conn.executemany(
            "UPDATE volumes SET removable = ? WHERE machine_id = ? AND mount = ?",
            [(share.removable, ledger.machine_id, share.mount) for share in ledger.volumes],
        )
        ask_outlooks_of(conn, ledger.machine_id)


def looks(conn: Connection, machine_id: int, since: int) -> list[SurveySums]:
    """The looks at a machine since a time, in order."""
    rows = conn.execute(
        """
        SELECT at, is_follow_up, sums FROM survey_sums
        WHERE machine_id = ? AND at >= ? ORDER BY at, survey_id
        """,
        (machine_id, since),
    )
    return [SurveySums(row[0], bool(row[1]), json.loads(row[2])) for row in rows]
