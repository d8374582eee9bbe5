"""A signed-in person while strangers do what they can: sixty sign-ins at once without an end, and a
thousand connections that say nothing. Against the same person in a quiet house, in the same run.

    python -m bench.strangers
"""

from __future__ import annotations

import asyncio
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import httpx
import psutil

from phylax.client import Phylax, sign_in
from phylax.core.clients.shop import ClientEdit, ShopEdit
from phylax.core.people.accounts import NewPerson, Role
from phylax.service.serving.serve import open_shop

PASSWORD = "gorse under a slow kettle"
_ASKED = 150
_GUESSERS, _IDLE = 60, 1000
_PAUSE = 0.5
"""Seconds between a guesser's tries: as many more would take what processors there are, theirs
included."""


def main() -> None:
    with (
        tempfile.TemporaryDirectory() as folder,
        service(Path(folder)) as (url, process),
        Phylax(url, sign_in(url, "ines", PASSWORD), timeout=60) as owner,
    ):
        for number in range(200):
            owner.clients.add(ClientEdit(name=f"Client {number}"))
        quiet = _p95(owner)
        before = process.memory_info().rss
        with _strangers(url):
            beset = _p95(owner)
            memory = process.memory_info().rss
        again = _p95(owner)
    print(f"a listing of clients, p95 of {_ASKED}: quiet {quiet * 1e3:.1f} ms, "
          f"beset {beset * 1e3:.1f} ms (ratio {beset / quiet:.1f}; goal 3), "
          f"quiet again {again * 1e3:.1f} ms")  # fmt: skip
    print(f"memory: quiet {before / 2**20:.0f} MiB, beset {memory / 2**20:.0f} MiB (goal 300)")


def _p95(owner: Phylax) -> float:
    took = []
    for _ in range(_ASKED):
        began = time.perf_counter()
        owner.send("GET", "/clients?limit=50")
        took.append(time.perf_counter() - began)
    return statistics.quantiles(took, n=20)[-1]


@contextmanager
def _strangers(url: str) -> Iterator[None]:
    """In processes of their own, so that they share nothing with who is measured but processors;
    they end when the block does, or after two minutes."""
    command = [sys.executable, "-m", "bench.strangers", url]
    strangers = subprocess.Popen(command, stdin=subprocess.PIPE)
    time.sleep(4)
    try:
        yield
    finally:
        assert strangers.stdin is not None
        strangers.stdin.close()
        strangers.wait(timeout=120)


async def _beset(url: str) -> None:
    """Idle connections, and guessers that each ask again as soon as they are answered."""
    port = int(url.rpartition(":")[2])
    idle = []
    for number in range(_IDLE):
        with suppress(OSError):
            source = (f"127.2.{number // 200}.1", 0)
            idle.append(socket.create_connection(("127.0.0.1", port), 10, source_address=source))
    said: Counter[int] = Counter()
    ended = asyncio.Event()

    async def guess(number: int) -> None:
        there = httpx.AsyncHTTPTransport(local_address=f"127.1.0.{number + 1}", verify=False)
        async with httpx.AsyncClient(transport=there, timeout=60) as client:
            while not ended.is_set():
                body = {"login": "ines", "password": f"guess {number}"}
                with suppress(httpx.HTTPError):
                    answer = await client.post(f"{url}/api/v2/command-line/sign-in", json=body)
                    said[answer.status_code] += 1
                await asyncio.sleep(_PAUSE)

    guessers = [asyncio.create_task(guess(number)) for number in range(_GUESSERS)]
    with suppress(TimeoutError):
        await asyncio.wait_for(asyncio.to_thread(sys.stdin.read), 120)
    ended.set()
    await asyncio.gather(*guessers)
    for line in idle:
        line.close()
    print(f"what {_GUESSERS} guessers were told: {dict(sorted(said.items()))}")


@contextmanager
def service(data: Path) -> Iterator[tuple[str, psutil.Process]]:
    owner = NewPerson(login="ines", name="Ines Marrow", role=Role.OWNER, password=PASSWORD)
    open_shop(data, ShopEdit(name="Quayside", zone="Europe/Dublin"), owner)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    command = [sys.executable, "-m", "phylax", "serve", "--data", str(data), "--port", str(port)]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    url = f"http://127.0.0.1:{port}"
    try:
        for _ in range(600):
            with suppress(httpx.HTTPError):
                if httpx.get(f"{url}/api/v2/health").is_success:
                    break
            time.sleep(0.1)
        yield url, psutil.Process(process.pid)
    finally:
        process.terminate()
        process.wait(timeout=60)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        asyncio.run(_beset(sys.argv[1]))
    else:
        main()
