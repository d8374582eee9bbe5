"""2,000 agents that long-poll and report to one service on this machine: requests a second, p50,
p99, memory, nothing lost; against a bare FastAPI route that takes the same reports.

Agents and service share the machine's cores. Bounded: it stops by itself.
"""

from __future__ import annotations

import asyncio
import json
import secrets
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import psutil
import uvicorn
from fastapi import FastAPI

from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.ground.machines import MachineFacts, System
from phylax.core.ground.values import to_seconds
from phylax.core.people.accounts import NewPerson, Role
from phylax.core.protocol import Message
from phylax.service.http.auth import new_secret
from phylax.service.serving.serve import FILE, open_shop
from phylax.store.clients import agents, shop
from phylax.store.file.database import Database
from phylax.store.runs import runs

AGENTS = 2_000
SECONDS = 20
AT_ONCE = 32
PORT = 8795
FACTS = MachineFacts(system=System.LINUX, host="bench", agent_version="0", kind="standin")


def main() -> None:
    print(f"agents_load: {AGENTS:,} agents, reports by {AT_ONCE} at once for {SECONDS} s")
    with tempfile.TemporaryDirectory() as folder:
        keys = _fill(Path(folder))
        service = _start("-m", "phylax", "serve", "--data", folder, "--port", str(PORT))
        try:
            process = psutil.Process(service.pid)
            mine = asyncio.run(_against_the_service(keys, process, Path(folder)))
        finally:
            _end(service)
        bare = _start("-m", "bench.agents_load", "bare")
        try:
            time.sleep(4)
            theirs = asyncio.run(_reports(keys, "/messages"))
        finally:
            _end(bare)
    _tell("service", mine)
    _tell("bare route", theirs)
    ratio = (len(theirs) / SECONDS) / max(1e-9, len(mine) / SECONDS)
    print(f"  the bare route takes {ratio:.1f} × as many a second")


def _tell(name: str, took: list[float]) -> None:
    cuts = statistics.quantiles(took, n=100)
    print(
        f"  {name:<11} {len(took) / SECONDS:.0f} reports a second, p50 {cuts[49] * 1e3:.1f} ms, "
        f"p99 {cuts[98] * 1e3:.1f} ms"
    )


def _fill(folder: Path) -> list[str]:
    owner = NewPerson(login="bench", name="Bench", role=Role.OWNER, password=secrets.token_hex())
    open_shop(folder, ShopEdit(name="Bench", zone="Europe/Dublin"), owner)
    database, keys = Database(folder / FILE), []
    at = to_seconds(datetime.now(UTC))
    with database.write() as conn:
        shop.add_client(conn, ClientEdit(name="c"), who="b", at=at)
        for n in range(AGENTS):
            edit = MachineEdit(tag=f"m{n}", client_id=1, system=System.LINUX)
            machine_id = shop.add_machine(conn, edit, who="b", at=at)
            key, hashed = new_secret("agent")
            agents.enrol(conn, machine_id, hashed, FACTS, at=at)
            keys.append(key)
    database.close()
    return keys


class _Line:
    """One kept-alive connection, as small as HTTP allows: not the agents are measured."""

    def __init__(self, key: str) -> None:
        self._key = key
        self._streams: tuple[asyncio.StreamReader, asyncio.StreamWriter] | None = None

    async def ask(self, method: str, path: str, body: bytes = b"") -> tuple[int, bytes]:
        if self._streams is None:
            self._streams = await asyncio.open_connection("127.0.0.1", PORT)
        reader, writer = self._streams
        head = (
            f"{method} {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {self._key}\r\n"
            f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n"
        )
        writer.write(head.encode() + body)
        await writer.drain()
        answer = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1").lower()
        size = 0
        for line in answer.split("\r\n"):
            if line.startswith("content-length:"):
                size = int(line.split(":")[1])
        return int(answer.split(" ", 2)[1]), await reader.readexactly(size)

    def close(self) -> None:
        if self._streams is not None:
            self._streams[1].close()


def _report(n: int) -> bytes:
    now = datetime.now(UTC).isoformat()
    reading = {"mount": "/", "capacity": 10**12, "free": 6 * 10**11 + n, "at": now}
    return json.dumps(
        {"kind": "readings", "id": secrets.token_hex(16), "readings": [reading]}
    ).encode()


async def _reports(keys: list[str], path: str) -> list[float]:
    took: list[float] = []
    until = time.monotonic() + SECONDS

    async def one(start: int) -> None:
        mine = [_Line(key) for key in keys[start::AT_ONCE][:20]]
        n = 0
        while time.monotonic() < until:
            began = time.perf_counter()
            status, _ = await mine[n % len(mine)].ask("POST", path, _report(n))
            took.append(time.perf_counter() - began)
            assert status == 204, status
            n += 1
        for line in mine:
            line.close()

    await asyncio.gather(*(one(n) for n in range(AT_ONCE)))
    return took


async def _against_the_service(
    keys: list[str], process: psutil.Process, folder: Path
) -> list[float]:
    await _until_up()
    stop = asyncio.Event()
    polls = [asyncio.create_task(_agent(key, stop)) for key in keys]
    await asyncio.sleep(10)
    took = await _reports(keys, "/api/v2/agent/messages")
    memory = process.memory_info().rss / 2**20
    print(f"  with {AGENTS:,} waiting for work: service {memory:.0f} MiB")
    began = time.perf_counter()
    await asyncio.to_thread(_give_work, folder)
    done = await _wait_for(folder, AGENTS, 240)
    print(
        f"  a routine on all {AGENTS:,}: {done:,} given, reported on and ended in "
        f"{time.perf_counter() - began:.1f} s (agents ask again within 25 s), "
        f"{AGENTS - done} lost"
    )
    stop.set()
    for poll in polls:
        poll.cancel()
    await asyncio.gather(*polls, return_exceptions=True)
    return took


async def _agent(key: str, stop: asyncio.Event) -> None:
    """Ask for work for ever; report progress and a result for what is given."""
    line = _Line(key)
    while not stop.is_set():
        try:
            status, body = await line.ask("GET", "/api/v2/agent/order?wait=25")
            if status != 200:
                continue
            order = json.loads(body)
            run, lease = order["run_id"], order["lease"]
            told = {"lease": lease, "progress": {"step": "clean", "items": 1, "size": 1}}
            await line.ask("POST", f"/api/v2/agent/runs/{run}/progress", json.dumps(told).encode())
            now = datetime.now(UTC).isoformat()
            result = {"kind": "result", "id": f"result-{run}-{lease}", "run_id": run,
                      "started_at": now, "ended_at": now, "passes": 1}  # fmt: skip
            await line.ask("POST", "/api/v2/agent/messages", json.dumps(result).encode())
        except (OSError, asyncio.IncompleteReadError):
            line.close()
            line = _Line(key)
            await asyncio.sleep(1)


def _give_work(folder: Path) -> None:
    """As a round does: due at once on every machine. The agents hear of it when they ask again."""
    database = Database(folder / FILE)
    at = to_seconds(datetime.now(UTC))
    with database.write() as conn:
        for machine_id in range(1, AGENTS + 1):
            runs.add(
                conn, runs.Waiting(machine_id, "clean", ("trash",), "b", routine=(1, 1)), at=at
            )
    database.close()


async def _wait_for(folder: Path, wanted: int, seconds: float) -> int:
    until, done = time.monotonic() + seconds, 0
    database = Database(folder / FILE)
    while time.monotonic() < until and done < wanted:
        await asyncio.sleep(0.5)
        with database.read() as conn:
            (done,) = conn.execute("SELECT count(*) FROM runs WHERE state = 'done'").fetchone()
    database.close()
    return int(done)


async def _until_up() -> None:
    for _ in range(100):
        try:
            await _Line("x").ask("GET", "/api/v2/health")
            return
        except OSError:
            await asyncio.sleep(0.2)
    raise SystemExit("the service did not start")


def _bare() -> None:
    """The yardstick: the same report read, and answered with nothing."""
    app = FastAPI()

    @app.post("/messages", status_code=204)
    def take(message: Message) -> None:
        return None

    uvicorn.run(app, host="127.0.0.1", port=PORT, log_level="error", access_log=False)


def _start(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen([sys.executable, *words], stdout=subprocess.DEVNULL)


def _end(process: subprocess.Popen[bytes]) -> None:
    process.send_signal(signal.SIGTERM)
    try:
        process.wait(timeout=30)
    except subprocess.TimeoutExpired:
        process.kill()


if __name__ == "__main__":
    if sys.argv[1:] == ["bare"]:
        _bare()
    else:
        main()
