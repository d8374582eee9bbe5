"""A shop of 5,000 machines with two rounds each: making a day's occurrences, a month's agenda, and
what an idle service costs; against plain SQL that writes and reads the same rows.

Goal: under a second each, growing linearly; idle under 1 % of a core.
"""

from __future__ import annotations

import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from sqlite3 import Connection

import psutil

from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.ground.machines import System
from phylax.core.ground.values import to_seconds
from phylax.core.scheduling.rounds import RoundEdit
from phylax.service.runs import queue
from phylax.service.scheduling.agenda import agenda
from phylax.service.scheduling.timetable import place_round
from phylax.service.serving.serve import FILE
from phylax.store.clients import shop
from phylax.store.file.database import Database
from phylax.store.scheduling import presence, rounds, routines

SIZES = (1_000, 2_500, 5_000)
ROUNDS = 20
NOW = datetime(2026, 3, 2, 12, tzinfo=UTC)
IDLE_SECONDS = 60
PORT = 8797


def main() -> None:
    print(f"rounds_shop: {SIZES[-1]:,} machines, two of {ROUNDS} daily rounds each")
    for machines in SIZES:
        with tempfile.TemporaryDirectory() as folder:
            database = Database(Path(folder) / FILE)
            _fill(database, machines, at=to_seconds(NOW))
            _measure(database, machines)
            database.close()
            if machines == SIZES[-1]:
                _idle(Path(folder))


def _fill(database: Database, machines: int, *, at: int) -> None:
    with database.write() as conn:
        shop.open_shop(conn, ShopEdit(name="Bench", zone="Europe/Dublin"))
        routines.ship(conn, at=at)
        for n in range(max(1, machines // 50)):
            shop.add_client(conn, ClientEdit(name=f"c{n}", at_once=5), who="b", at=at)
        for n in range(machines):
            machine_id = shop.add_machine(
                conn,
                MachineEdit(tag=f"m{n}", client_id=n // 50 + 1, system=System.WINDOWS),
                who="b",
                at=at,
            )
            routines.note_length(conn, 1, machine_id, 300 + n % 600)
        for n in range(ROUNDS):
            edit = RoundEdit.model_validate(
                {
                    "name": f"round {n}", "routine_id": 1, "recurrence": "FREQ=DAILY",
                    "at": f"{18 + n % 6}:{n:02d}", "closes": "06:00",
                    "starts_on": date(2020, 1, 1), "catch_up": timedelta(days=1),
                    "machine_ids": [
                        m for m in range(1, machines + 1)
                        if n in (m % ROUNDS, (m + 7) % ROUNDS)
                    ],
                }
            )  # fmt: skip
            place_round(conn, rounds.add(conn, edit, who="b", at=at), edit, at=at)
        presence.note_awake(conn, at=at)


def _measure(database: Database, machines: int) -> None:
    evening = to_seconds(NOW + timedelta(hours=12))
    made = _timed(lambda: _make(database, evening), 1)
    bare = _timed(lambda: _copy_rows(database), 3)
    month = evening + 30 * 86400
    read = _timed(lambda: _read(database, lambda c: agenda(c, evening, month, at=evening)), 5)
    raw = _timed(lambda: _read(database, _plain), 5)
    print(
        f"  {machines:>5,} machines: a day's {2 * machines:,} occurrences {made * 1e3:.0f} ms, "
        f"{made / bare:.1f} × writing the same rows ({bare * 1e3:.0f} ms); "
        f"a month's agenda {read * 1e3:.0f} ms, {read / raw:.1f} × reading what it stands on "
        f"({raw * 1e3:.0f} ms)"
    )


def _make(database: Database, at: int) -> None:
    with database.write() as conn:
        queue.make_due(conn, at=at)
    with database.read() as conn:
        (count,) = conn.execute("SELECT count(*) FROM runs").fetchone()
        (due,) = conn.execute("SELECT count(*) FROM round_machines").fetchone()
    assert count == due, (count, due)


def _copy_rows(database: Database) -> None:
    """The same rows once more, under times of their own, then gone again."""
    with database.write() as conn:
        rows = [tuple(row) for row in conn.execute("SELECT * FROM runs")]
        names = [row[1] for row in conn.execute("PRAGMA table_info(runs)")]
        occurs = names.index("occurs_at")
        moved = [(None, *row[1:occurs], row[occurs] + 1, *row[occurs + 1 :]) for row in rows]
        conn.executemany(f"INSERT INTO runs VALUES ({','.join('?' * len(names))})", moved)
    with database.write() as conn:
        conn.execute("DELETE FROM runs WHERE id > ?", (len(rows),))


def _read(database: Database, ask: Callable[[Connection], object]) -> None:
    with database.read() as conn:
        ask(conn)


def _plain(conn: Connection) -> object:
    return (
        conn.execute(
            "SELECT o.*, m.client_id, l.recent FROM round_machines o"
            " JOIN machines m ON m.id = o.machine_id"
            " LEFT JOIN routine_lengths l ON l.machine_id = m.id AND l.routine_id = 1"
        ).fetchall(),
        conn.execute(
            "SELECT a.round_id, b.round_id, count(*) FROM round_machines a JOIN round_machines b"
            " ON b.machine_id = a.machine_id AND b.round_id > a.round_id GROUP BY 1, 2"
        ).fetchall(),
    )


def _timed(action: Callable[[], object], times: int) -> float:
    found = []
    for _ in range(times):
        began = time.perf_counter()
        action()
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def _idle(folder: Path) -> None:
    """A real service over the file; nothing is due and nobody calls."""
    database = Database(folder / FILE)
    far = to_seconds(datetime.now(UTC)) + 30 * 86400
    with database.write() as conn:
        conn.execute("UPDATE round_machines SET next_at = ?", (far,))
        conn.execute("DELETE FROM runs")
        presence.note_awake(conn, at=to_seconds(datetime.now(UTC)))
    database.close()
    service = subprocess.Popen(
        [sys.executable, "-m", "phylax", "serve", "--data", str(folder), "--port", str(PORT)],
        stdout=subprocess.DEVNULL,
    )
    try:
        time.sleep(10)
        process = psutil.Process(service.pid)
        before = sum(process.cpu_times()[:2])
        time.sleep(IDLE_SECONDS)
        used = sum(process.cpu_times()[:2]) - before
        memory = process.memory_info().rss / 2**20
    finally:
        service.send_signal(signal.SIGTERM)
        service.wait(timeout=20)
    share = 100 * used / IDLE_SECONDS
    print(f"  idle service: {share:.2f} % of a core over {IDLE_SECONDS} s, {memory:.0f} MiB")


if __name__ == "__main__":
    main()
