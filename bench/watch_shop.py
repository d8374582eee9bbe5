"""A shop of 5,000 machines and 10,000 volumes, 90 days by the hour and three years by the day.

Readings that come in through HTTP in batches, against `executemany` of the same rows on the same
SQLite settings; the pages' data against a bare route that returns the same bytes; the forecast of
every volume; the change of the day under load; the size of the file. Bounded: it stops by itself.
"""

from __future__ import annotations

import asyncio
import json
import secrets
import signal
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
import uuid
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Self

import httpx
import numpy as np
import psutil
import uvicorn
from fastapi import FastAPI, Response

from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.ground.machines import MachineFacts, System
from phylax.core.ground.values import to_seconds
from phylax.core.people.accounts import NewPerson, Role
from phylax.service.context.context import Context
from phylax.service.http.auth import new_secret
from phylax.service.serving.serve import FILE, open_shop
from phylax.service.trends import forecasts
from phylax.store.clients import agents, shop
from phylax.store.file.database import Database
from phylax.store.people import people

MACHINES = 5_000
HOURS, DAYS = 90 * 24, 3 * 365
SENDERS, BACKLOG, EVERY = 100, 1000, 900
"""So many machines have been out of reach for so many readings of each volume, one every so many
seconds, and send it all: in one message, as agents gather it."""
TURNS = 10
AT_ONCE = 8
PEOPLE, LOOKS_EVERY = 4, 1.0
PORT = 8797
GIB = 2**30
DAY = 86400
FACTS = MachineFacts(system=System.WINDOWS, host="bench", agent_version="0.1.0", kind="standin")
LOOKS = 150


def main(machines: int = MACHINES) -> None:
    before = psutil.cpu_times()
    print(f"watch_shop: {machines:,} machines, {2 * machines:,} volumes, {HOURS:,} hours, "
          f"{DAYS:,} days each")  # fmt: skip
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        keys, token = _fill(folder, machines)
        size = sum(path.stat().st_size for path in folder.iterdir())
        print(f"  the file: {size / GIB:.2f} GiB, "
              f"{size / (2 * machines * (HOURS + DAYS)):.0f} bytes a reading or day")  # fmt: skip
        _forecast(folder)
        service = _start(
            "-m", "phylax", "serve", "--data", str(folder), "--port", str(PORT),
            "--log-level", "error",
        )  # fmt: skip
        process = psutil.Process(service.pid)
        try:
            _wait()
            _until_all_is_looked_at(folder)
            _ingest(folder, keys[:SENDERS], process)
            _until_all_is_looked_at(folder)
            _pages(token, machines)
            asyncio.run(_change_of_day(keys, token, process))
            _until_all_is_looked_at(folder)
        finally:
            _end(service)
    _tell_of_others(before)


# --- the shop --------------------------------------------------------------------------------


def _fill(folder: Path, machines: int) -> tuple[list[str], str]:
    """The shop's file, filled fast; the first machines' agent keys, and the owner's token."""
    owner = NewPerson(login="bench", name="Bench", role=Role.OWNER, password=secrets.token_hex())
    open_shop(folder, ShopEdit(name="Bench", zone="Europe/Dublin"), owner)
    database, keys = Database(folder / FILE), []
    # until the last hour of yesterday: each machine's next report is the first of its day
    now = to_seconds(datetime.now(UTC)) // DAY * DAY - 3600
    with database.write() as conn:
        token, hashed = new_secret("phylax")
        people.add_token(conn, hashed, 1, "bench", at=now)
        for n in range(100):
            shop.add_client(conn, ClientEdit(name=f"client {n}"), who="b", at=now)
        for n in range(machines):
            edit = MachineEdit(tag=f"m{n}", client_id=n % 100 + 1, system=System.WINDOWS)
            machine_id = shop.add_machine(conn, edit, who="b", at=now)
            key, key_hash = new_secret("agent")
            agents.enrol(conn, machine_id, key_hash, FACTS, at=now)
            keys.append(key)
    database.close()
    raw = sqlite3.connect(folder / FILE, isolation_level=None)
    raw.execute("PRAGMA synchronous = OFF")
    raw.execute("BEGIN")
    raw.executemany(
        "INSERT INTO volumes (machine_id, mount, name, disk, file_system, capacity, free, read_at)"
        " VALUES (?, ?, '', 'ssd', 'NTFS', ?, ?, ?)",
        ((n // 2 + 1, "CD"[n % 2] + ":", 237 * GIB, 60 * GIB, now) for n in range(2 * machines)),
    )
    raw.executemany("INSERT INTO readings VALUES (?, ?, ?, ?)", _hours(machines, now))
    raw.executemany("INSERT INTO reading_days VALUES (?, ?, ?, ?, ?, ?, ?)", _days(machines, now))
    raw.execute(
        "INSERT INTO volume_lines SELECT id, ?, capacity, '', '' FROM volumes",
        (now - DAYS * DAY,),
    )
    raw.execute("INSERT INTO outlooks_due SELECT id FROM volumes")
    raw.execute(
        "UPDATE volumes SET read_at = ? WHERE machine_id <= ?", (now - BACKLOG * EVERY, SENDERS)
    )
    raw.execute("COMMIT")
    raw.close()
    return keys, token


def _free(volume: int) -> np.ndarray:
    """Free bytes at each hour of three years: filling, a weekly tooth, some noise."""
    random = np.random.default_rng(volume)
    hours = np.arange(DAYS * 24)
    rate = random.uniform(0, 0.15) / 24
    used = 60 + rate * hours + random.uniform(0, 8) * (hours % 168) / 168
    used += random.normal(0, 0.1, len(hours))
    return ((237 - np.clip(used, 0, 236)) * GIB).astype(np.int64)


def _hours(machines: int, now: int) -> Iterator[tuple[int, int, int, int]]:
    for volume in range(1, 2 * machines + 1):
        # those that have been out of reach lack the last of it
        lacks = BACKLOG * EVERY // 3600 if volume <= 2 * SENDERS else 0
        free = _free(volume)[-HOURS : len(_free(0)) - lacks or None]
        begin = now - (HOURS - 1) * 3600
        for hour, one in enumerate(free.tolist()):
            yield volume, begin + hour * 3600, 237 * GIB, one


def _days(machines: int, now: int) -> Iterator[tuple[int, int, int, int, int, int, int]]:
    for volume in range(1, 2 * machines + 1):
        free = _free(volume).reshape(DAYS, 24)
        lows, highs, lasts = free.min(axis=1), free.max(axis=1), free[:, -1]
        for number, (low, high, last) in enumerate(
            zip(lows.tolist(), highs.tolist(), lasts.tolist(), strict=True)
        ):
            at = now - (DAYS - 1 - number) * DAY
            yield volume, at // DAY, 237 * GIB, low, high, last, at


# --- forecasts -------------------------------------------------------------------------------


def _forecast(folder: Path) -> None:
    database = Database(folder / FILE)
    context, made = Context(database), 0
    began = time.perf_counter()
    while True:
        found = forecasts.refresh(context)
        made += forecasts.AT_A_TIME
        if not found.more:
            break
    took = time.perf_counter() - began
    with database.read() as conn:
        (count,) = conn.execute("SELECT count(*) FROM outlooks").fetchone()
        began = time.perf_counter()
        rows = conn.execute("SELECT sum(free) FROM reading_days WHERE day >= ?",
                            (time.time() // DAY - 120,)).fetchone()  # fmt: skip
        assert rows
        reading = time.perf_counter() - began
    database.close()
    print(
        f"  forecast of all {count:,} volumes: {took:.1f} s, {1e3 * took / count:.2f} ms each, "
        f"one core ({took / reading:.1f} × summing up the days it stands on by SQL)"
    )


# --- what comes in ---------------------------------------------------------------------------


def _batch(begin: int, readings: int) -> bytes:
    """What a machine of two volumes sends after so many readings out of reach."""
    volumes = [
        {
            "mount": "CD"[volume] + ":", "capacity": 237 * GIB, "file_system": "NTFS",
            "disk": "ssd", "at": [begin + n * EVERY for n in range(readings)],
            "free": [60 * GIB - n * 10**6 for n in range(readings)],
        }
        for volume in range(2)
    ]  # fmt: skip
    return json.dumps({"kind": "readings", "id": uuid.uuid4().hex, "volumes": volumes}).encode()


def _ingest(folder: Path, keys: list[str], service: psutil.Process) -> None:
    """In turns with the yardstick, so that a machine busy with other things slows both."""
    begin = to_seconds(datetime.now(UTC)) // EVERY * EVERY - (BACKLOG - 1) * EVERY
    rows = 2 * BACKLOG * len(keys) // TURNS
    mine, theirs, spent = [], [], _spent(service)
    with (
        httpx.Client(base_url=f"http://127.0.0.1:{PORT}", timeout=60) as client,
        _Raw(folder / "raw.sqlite3") as raw,
    ):
        for turn in range(TURNS):
            some = keys[turn::TURNS]
            bodies = [_batch(begin, BACKLOG) for _ in some]
            began = time.perf_counter()
            for key, body in zip(some, bodies, strict=True):
                client.post(
                    "/api/v2/agent/messages",
                    content=body,
                    headers={"Authorization": f"Bearer {key}", "Content-Type": "application/json"},
                ).raise_for_status()
            mine.append(time.perf_counter() - began)
            theirs.append(raw.insert(turn * len(some), begin, len(some)))
    ratio = statistics.median(one / other for one, other in zip(mine, theirs, strict=True))
    spent = (_spent(service) - spent) / (rows * TURNS)
    print(
        f"  ingest by HTTP, {rows * TURNS:,} readings in {len(keys)} batches: "
        f"{rows / statistics.median(mine):,.0f} a second, {1e6 * spent:.1f} µs of CPU each; "
        f"executemany {rows / statistics.median(theirs):,.0f}; ratio {ratio:.2f} "
        f"(median of {TURNS} turns; goal 4)"
    )


class _Raw:
    """The same rows into the same table, with the same settings, a transaction for each batch."""

    def __init__(self, path: Path) -> None:
        self._conn = sqlite3.connect(path, isolation_level=None)
        self._conn.execute("PRAGMA journal_mode = WAL")
        self._conn.execute("PRAGMA synchronous = FULL")
        self._conn.execute(
            "CREATE TABLE readings (volume_id INTEGER NOT NULL, at INTEGER NOT NULL,"
            " capacity INTEGER NOT NULL, free INTEGER NOT NULL, PRIMARY KEY (volume_id, at))"
            " STRICT, WITHOUT ROWID"
        )

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._conn.close()

    def insert(self, first: int, begin: int, batches: int) -> float:
        """Seconds that so many batches took."""
        rows = [
            [
                (2 * batch + volume, begin + n * EVERY, 237 * GIB, 60 * GIB - n * 10**6)
                for volume in range(2)
                for n in range(BACKLOG)
            ]
            for batch in range(first, first + batches)
        ]
        began = time.perf_counter()
        for batch in rows:
            self._conn.execute("BEGIN IMMEDIATE")
            self._conn.executemany("INSERT INTO readings VALUES (?, ?, ?, ?)", batch)
            self._conn.execute("COMMIT")
        return time.perf_counter() - began


def _spent(process: psutil.Process) -> float:
    """Seconds of CPU time so far."""
    times = process.cpu_times()
    return times.user + times.system


async def _change_of_day(keys: list[str], token: str, service: psutil.Process) -> None:
    """The first report of the day from every machine, then a second, while people look at pages."""
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{PORT}", timeout=60) as client:
        stop = asyncio.Event()

        async def look() -> list[float]:
            took = []
            while not stop.is_set():
                began = time.perf_counter()
                await client.get(
                    "/api/v2/machines?limit=100", headers={"Authorization": f"Bearer {token}"}
                )
                took.append(time.perf_counter() - began)
                await asyncio.sleep(LOOKS_EVERY)
            return took

        async def send(some: list[str], at: int) -> list[float]:
            took = []
            for key in some:
                began = time.perf_counter()
                answer = await client.post(
                    "/api/v2/agent/messages",
                    content=_batch(at, 1),
                    headers={"Authorization": f"Bearer {key}", "Content-Type": "application/json"},
                )
                answer.raise_for_status()
                took.append(time.perf_counter() - began)
            return took

        async def all_send(at: int) -> tuple[list[float], float]:
            began = time.perf_counter()
            parts = await asyncio.gather(*(send(keys[n::AT_ONCE], at) for n in range(AT_ONCE)))
            return [one for part in parts for one in part], time.perf_counter() - began

        looking = [asyncio.create_task(look()) for _ in range(PEOPLE)]
        now = to_seconds(datetime.now(UTC))
        for name, at in (("first", now - 300), ("second", now)):
            spent = _spent(service)
            took, whole = await all_send(at)
            spent = (_spent(service) - spent) / len(keys)
            print(
                f"  the {name} report of the day from each of {len(keys):,} machines, {AT_ONCE} at "
                f"once: {len(keys) / whole:.0f} a second, p95 {_p95(took) * 1e3:.0f} ms, "
                f"{1e3 * spent:.1f} ms of CPU each, pages and outlooks included"
            )
        stop.set()
        looks = [one for part in await asyncio.gather(*looking) for one in part]
    print(f"  pages meanwhile: p95 {_p95(looks) * 1e3:.0f} ms of {len(looks)}")


def _until_all_is_looked_at(folder: Path) -> None:
    raw = sqlite3.connect(folder / FILE)
    began = time.perf_counter()
    while (left := raw.execute("SELECT count(*) FROM outlooks_due").fetchone()[0]) > 0:
        if time.perf_counter() - began > 300:
            break
        time.sleep(0.2)
    raw.close()
    print(f"  the watch caught up {time.perf_counter() - began:.1f} s later ({left} left)")


# --- pages -----------------------------------------------------------------------------------


def _pages(token: str, machines: int) -> None:
    ids = "&".join(f"machine_id={n}" for n in range(1, 101))
    since = (datetime.now(UTC) - timedelta(days=365)).isoformat().replace("+00:00", "Z")
    addresses = {
        "Machines, a page of 500": "/api/v2/machines?limit=500&after={}",
        "its lines, 100 machines": f"/api/v2/machines/free-lines?{ids}",
        "a year's chart": f"/api/v2/machines/m{{}}/trend?since={since}&points=400",
        "trends over the shop": "/api/v2/trends",
        "what needs attention": "/api/v2/today",
    }
    headers = {"Authorization": f"Bearer {token}"}
    with httpx.Client(base_url=f"http://127.0.0.1:{PORT}", timeout=60, headers=headers) as client:
        for name, address in addresses.items():
            took, body = [], b""
            for number in range(LOOKS if "{" in address else LOOKS // 5):
                began = time.perf_counter()
                answer = client.get(address.format(number * 31 % (machines - 500)))
                answer.raise_for_status()
                took.append(time.perf_counter() - began)
                body = answer.content
            mine, bare = _p95(took), _p95(_bare(body, len(took)))
            print(
                f"  {name}: p95 {mine * 1e3:.1f} ms, {len(body) / 1024:.0f} KiB; a bare route with "
                f"the same bytes {bare * 1e3:.1f} ms ({mine / bare:.1f} ×)"
            )


def _bare(body: bytes, times: int) -> list[float]:
    with tempfile.NamedTemporaryFile() as file:
        file.write(body)
        file.flush()
        service = _start("-m", "bench.watch_shop", "bare", file.name)
        try:
            url = f"http://127.0.0.1:{PORT + 1}/"
            deadline = time.monotonic() + 20
            while time.monotonic() < deadline:
                try:
                    httpx.get(url)
                    break
                except httpx.TransportError:
                    time.sleep(0.05)
            took = []
            with httpx.Client() as client:
                for _ in range(times):
                    began = time.perf_counter()
                    client.get(url).raise_for_status()
                    took.append(time.perf_counter() - began)
            return took
        finally:
            _end(service)


def _serve_bare(path: str) -> None:
    app, body = FastAPI(), Path(path).read_bytes()

    @app.get("/")
    def same() -> Response:
        return Response(body, media_type="application/json")

    uvicorn.run(app, host="127.0.0.1", port=PORT + 1, log_level="error")


# --- processes -------------------------------------------------------------------------------


def _tell_of_others(before: Any) -> None:
    """On a shared machine all wall times are longer by what others took."""
    now = psutil.cpu_times()
    stolen = getattr(now, "steal", 0.0) - getattr(before, "steal", 0.0)
    idle = now.idle - before.idle
    wanted = sum(now) - sum(before) - idle
    print(f"  of the time the machine was wanted, others took {100 * stolen / wanted:.0f} %")


def _p95(took: list[float]) -> float:
    return statistics.quantiles(took, n=20)[18]


def _start(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, *words], stdout=subprocess.DEVNULL)


def _wait() -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            httpx.get(f"http://127.0.0.1:{PORT}/api/v2/health").raise_for_status()
            return
        except httpx.HTTPError:
            time.sleep(0.1)
    raise TimeoutError("the service did not start")


def _end(process: subprocess.Popen[bytes]) -> None:
    process.send_signal(signal.SIGTERM)
    process.wait(timeout=30)


if __name__ == "__main__":
    if sys.argv[1:2] == ["bare"]:
        _serve_bare(sys.argv[2])
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else MACHINES)
