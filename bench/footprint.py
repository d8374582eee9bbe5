"""What an idle agent costs a client's machine: memory with all that it started, wake-ups and
processor time in a minute, and the size of what is installed; against a bare Python that sleeps.

A real service on loopback and a real agent on this machine that looks after one made-up home,
asking for work as it always does; as root with workers of their own for people. Resident memory
counts the libraries' pages too, which others share; the private part is what comes free with it.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from importlib import metadata
from pathlib import Path
from typing import NamedTuple

import psutil

from bench.people import PERSON
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime import commands
from phylax.agent.workers.supervisor import IDLE
from phylax.client import Phylax, UnreachableError, sign_in
from phylax.core.clients.shop import ClientEdit, MachineEdit, ShopEdit
from phylax.core.ground.machines import System
from phylax.core.people.accounts import NewPerson, Role
from phylax.service.serving.serve import open_shop

SECONDS = 60
PASSWORD = "a bench's own password"
PORT = 8799
LIBRARIES = (
    "annotated-types", "anyio", "certifi", "click", "h11", "httpcore", "httpx", "idna", "pathspec",
    "platformdirs", "psutil", "pydantic", "pydantic-core", "tomli-w",
    "typing-extensions", "typing-inspection", "tzdata",
)  # fmt: skip
"""What an agent needs of what is installed."""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        owner = NewPerson(login="bench", name="Bench", role=Role.OWNER, password=PASSWORD)
        open_shop(top / "shop", ShopEdit(name="Bench", zone="Europe/Dublin"), owner)
        service = _start("serve", "--data", str(top / "shop"), "--port", str(PORT))
        try:
            _enrol(top)
            agent = _start("agent", "start", "--data", str(top / "agent"))
            bare = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(3600)"])
            try:
                time.sleep(IDLE + 40)
                mine, theirs = _idle(agent.pid), _idle(bare.pid)
            finally:
                _end(agent, bare)
        finally:
            _end(service)
    print(f"footprint: an idle agent over {SECONDS} s, against a bare Python that sleeps")
    for name, own, bare_one in (
        ("memory", mine.resident, theirs.resident),
        ("private of it", mine.private, theirs.private),
    ):
        print(f"  {name:<15} {own:.1f} MiB, bare {bare_one:.1f} MiB, ratio {own / bare_one:.1f}")
    print(f"  wake-ups        {mine.wakes} in a minute, bare {theirs.wakes}")
    print(f"  processor       {mine.seconds:.2f} s in a minute")
    own = _size(Path(commands.__file__).parents[2], without="console")
    libraries = sum(_installed(name) for name in LIBRARIES)
    print(f"  on the disk     {own / 2**20:.1f} MiB, its libraries {libraries / 2**20:.1f} MiB")


def _enrol(top: Path) -> None:
    """An agent of one home, as soon as the service answers."""
    url = f"http://127.0.0.1:{PORT}"
    for _ in range(100):
        try:
            token = sign_in(url, "bench", PASSWORD)
            break
        except UnreachableError:
            time.sleep(0.2)
    folder = top / "m"
    home = folder / "home/anna"
    home.mkdir(parents=True)
    if os.geteuid() == 0:
        os.chown(home, PERSON, PERSON)
    with Phylax(url, token) as shop:
        client = shop.clients.add(ClientEdit(name="Bench"))
        shop.machines.add(MachineEdit(tag="bench", client_id=client.id, system=System.LINUX))
        code = shop.machines.enrolment_code("bench").code
    commands.enrol(AgentHome(top / "agent"), url, code, homes=(str(home),))


def _start(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "phylax", *words],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip


def _end(*processes: subprocess.Popen[bytes]) -> None:
    for process in processes:
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=30)


class Idle(NamedTuple):
    """Resident and private MiB, wake-ups and processor seconds in a minute."""

    resident: float
    private: float
    wakes: int
    seconds: float


def _idle(pid: int) -> Idle:
    """Of a process and all that it started."""
    first = psutil.Process(pid)
    processes = [first, *first.children(recursive=True)]
    before, used = _sums(processes)
    time.sleep(SECONDS)
    after, now = _sums(processes)
    memory = [process.memory_full_info() for process in processes]
    return Idle(
        sum(each.rss for each in memory) / 2**20,
        sum(each.uss for each in memory) / 2**20,
        round((after - before) * 60 / SECONDS),
        (now - used) * 60 / SECONDS,
    )


def _sums(processes: Sequence[psutil.Process]) -> tuple[int, float]:
    """Wake-ups and processor seconds so far."""
    wakes = sum(process.num_ctx_switches().voluntary for process in processes)
    return wakes, sum(sum(process.cpu_times()[:2]) for process in processes)


def _size(folder: Path, *, without: str = "") -> int:
    return sum(
        path.stat().st_size
        for path in folder.rglob("*")
        if path.is_file() and without not in path.parts and path.suffix != ".pyc"
    )


def _installed(name: str) -> int:
    found = metadata.distribution(name).files or []
    paths = (Path(str(one.locate())) for one in found if one.suffix != ".pyc")
    return sum(path.stat().st_size for path in paths if path.is_file())


if __name__ == "__main__":
    main()
