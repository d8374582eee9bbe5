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

import httpx
import numpy as np
import uvicorn
from fastapi import FastAPI, Response

from phylax.core.people import NewPerson, Role
from phylax.core.shop import ClientEdit, MachineEdit, MachineFacts, ShopEdit, System
from phylax.core.values import to_seconds
from phylax.service import outlooks
from phylax.service.house import House
from phylax.service.serve import FILE, open_shop
from phylax.service.signin import new_secret
from phylax.store import agents, people, shop
from phylax.store.database import Database

MACHINES = 5_000
HOURS, DAYS = 90 * 24, 3 * 365
SENDERS, BACKLOG = 100, 480
"""So many machines have been out of reach for so many hours, and send it all."""
PORT = 8797
GIB = 2**30
DAY = 86400
FACTS = MachineFacts(system=System.WINDOWS, host="bench", agent_version="0.1.0", kind="standin")
LOOKS = 150


def main(machines: int = MACHINES) -> None:
    print(f"watch_shop: {machines:,} machines, {2 * machines:,} volumes, {HOURS:,} hours, "
          f"{DAYS:,} days each")  # fmt: skip
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        keys, token = _fill(folder, machines)
        size = sum(path.stat().st_size for path in folder.iterdir())
        print(f"  the file: {size / GIB:.2f} GiB, "
              f"{size / (2 * machines * (HOURS + DAYS)):.0f} bytes a reading or day")  # fmt: skip
        _forecast(folder)
        service = _start("-m", "phylax", "serve", "--data", str(folder), "--port", str(PORT))
        try:
            _wait()
            _ingest(folder, keys)
            _pages(token, machines)
            asyncio.run(_change_of_day(keys, token))
        finally:
            _end(service)


# --- the shop --------------------------------------------------------------------------------


def _fill(folder: Path, machines: int) -> tuple[list[str], str]:
    """The shop's file, filled fast; the first machines' agent keys, and the owner's token."""
    owner = NewPerson(login="bench", name="Bench", role=Role.OWNER, password=secrets.token_hex())
    open_shop(folder, ShopEdit(name="Bench", zone="Europe/Dublin"), owner)
    database, keys = Database(folder / FILE), []
    now = to_seconds(datetime.now(UTC)) // 3600 * 3600
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
        "UPDATE volumes SET read_at = ? WHERE machine_id <= ?", (now - BACKLOG * 3600, SENDERS)
    )
    raw.execute("COMMIT")
    raw.close()
    return keys[:SENDERS], token


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
        lacks = BACKLOG if volume <= 2 * SENDERS else 0
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
    house, made = House(database), 0
    began = time.perf_counter()
    while True:
        found = outlooks.refresh(house)
        made += outlooks.AT_A_TIME
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


def _batch(number: int, begin: int, hours: int) -> bytes:
    """What a machine of two volumes sends after so many hours out of reach."""
    readings = [
        {
            "mount": "CD"[volume] + ":", "capacity": 237 * GIB,
            "free": int(60 * GIB) - hour * 10**6,
            "at": datetime.fromtimestamp(begin + hour * 3600, UTC).isoformat(),
            "file_system": "NTFS", "disk": "ssd",
        }
        for volume in range(2)
        for hour in range(hours)
    ]  # fmt: skip
    return json.dumps({"kind": "readings", "id": uuid.uuid4().hex, "readings": readings}).encode()


def _ingest(folder: Path, keys: list[str]) -> None:
    begin = to_seconds(datetime.now(UTC)) // 3600 * 3600 - (BACKLOG - 1) * 3600
    bodies = [_batch(n, begin, BACKLOG) for n in range(len(keys))]
    rows = 2 * BACKLOG * len(keys)
    with httpx.Client(base_url=f"http://127.0.0.1:{PORT}", timeout=60) as client:
        began = time.perf_counter()
        for key, body in zip(keys, bodies, strict=True):
            client.post(
                "/api/v1/agent/messages",
                content=body,
                headers={"Authorization": f"Bearer {key}", "Content-Type": "application/json"},
            ).raise_for_status()
        mine = time.perf_counter() - began
    theirs = _raw(folder.parent / f"{folder.name}-raw.sqlite3", begin, len(keys))
    print(
        f"  ingest by HTTP, {rows:,} readings in {len(keys)} batches: {rows / mine:,.0f} a second; "
        f"executemany {rows / theirs:,.0f}; ratio {mine / theirs:.2f} (goal 4)"
    )


def _raw(path: Path, begin: int, batches: int) -> float:
    """The same rows into the same table, with the same settings, a transaction for each batch."""
    raw = sqlite3.connect(path, isolation_level=None)
    try:
        raw.execute("PRAGMA journal_mode = WAL")
        raw.execute("PRAGMA synchronous = FULL")
        raw.execute(
            "CREATE TABLE readings (volume_id INTEGER NOT NULL, at INTEGER NOT NULL,"
            " capacity INTEGER NOT NULL, free INTEGER NOT NULL, PRIMARY KEY (volume_id, at))"
            " STRICT, WITHOUT ROWID"
        )
        rows = [
            [
                (2 * batch + volume, begin + hour * 3600, 237 * GIB, 60 * GIB - hour * 10**6)
                for volume in range(2)
                for hour in range(BACKLOG)
            ]
            for batch in range(batches)
        ]
        began = time.perf_counter()
        for batch in rows:
            raw.execute("BEGIN IMMEDIATE")
            raw.executemany("INSERT INTO readings VALUES (?, ?, ?, ?)", batch)
            raw.execute("COMMIT")
        return time.perf_counter() - began
    finally:
        raw.close()
        for file in path.parent.glob(f"{path.name}*"):
            file.unlink()


async def _change_of_day(keys: list[str], token: str) -> None:
    """Single readings from all senders, then those of the next day, while people look at pages."""
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{PORT}", timeout=60) as client:
        stop = asyncio.Event()

        async def look() -> None:
            while not stop.is_set():
                await client.get(
                    "/api/v1/machines?limit=100", headers={"Authorization": f"Bearer {token}"}
                )

        async def send(begin: int) -> list[float]:
            took = []
            for key in keys:
                began = time.perf_counter()
                answer = await client.post(
                    "/api/v1/agent/messages",
                    content=_batch(0, begin, 1),
                    headers={"Authorization": f"Bearer {key}", "Content-Type": "application/json"},
                )
                answer.raise_for_status()
                took.append(time.perf_counter() - began)
            return took

        looking = [asyncio.create_task(look()) for _ in range(2)]
        now = to_seconds(datetime.now(UTC))
        same = await send(now)
        other = await send(now + 300)
        stop.set()
        await asyncio.gather(*looking)
    print(
        f"  a report while two people look at pages: p95 {_p95(same) * 1e3:.0f} ms; "
        f"later ones {_p95(other) * 1e3:.0f} ms"
    )


# --- pages -----------------------------------------------------------------------------------


def _pages(token: str, machines: int) -> None:
    ids = "&".join(f"machine_id={n}" for n in range(1, 101))
    since = (datetime.now(UTC) - timedelta(days=365)).isoformat().replace("+00:00", "Z")
    addresses = {
        "Machines, a page of 500": "/api/v1/machines?limit=500&after={}",
        "its lines, 100 machines": f"/api/v1/machines/free-lines?{ids}",
        "a year's chart": f"/api/v1/machines/m{{}}/trend?since={since}&points=400",
        "trends over the shop": "/api/v1/trends",
        "what needs you": "/api/v1/today",
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


def _p95(took: list[float]) -> float:
    return statistics.quantiles(took, n=20)[18]


def _start(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, *words], stdout=subprocess.DEVNULL)


def _wait() -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            httpx.get(f"http://127.0.0.1:{PORT}/api/v1/health").raise_for_status()
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
