"""What an idle agent costs a client's machine: memory, wake-ups and processor time in a minute, and
the size of what is installed; against a bare Python that sleeps.

A real service on loopback, a real agent on a stand-in, asking for work as it always does.
"""

from __future__ import annotations

import signal
import subprocess
import sys
import tempfile
import time
from importlib import metadata
from pathlib import Path

import psutil
import tomli_w

from phylax.agent.config.home import AgentHome
from phylax.agent.runtime import commands
from phylax.client import Phylax, UnreachableError, sign_in
from phylax.core.people import NewPerson, Role
from phylax.core.shop import ClientEdit, MachineEdit, ShopEdit, System
from phylax.service.serve import open_shop

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
                time.sleep(10)
                mine, theirs = _idle(agent.pid), _idle(bare.pid)
            finally:
                _end(agent, bare)
        finally:
            _end(service)
    print(f"footprint: an idle agent over {SECONDS} s, against a bare Python that sleeps")
    ratio = mine[0] / theirs[0]
    print(f"  memory          {mine[0]:.1f} MiB, bare {theirs[0]:.1f} MiB, ratio {ratio:.1f}")
    print(f"  wake-ups        {mine[1]} in a minute, bare {theirs[1]}")
    print(f"  processor       {mine[2]:.2f} s in a minute")
    own = _size(Path(commands.__file__).parents[1], without="console")
    libraries = sum(_installed(name) for name in LIBRARIES)
    print(f"  on the disk     {own / 2**20:.1f} MiB, its libraries {libraries / 2**20:.1f} MiB")


def _enrol(top: Path) -> None:
    """A stand-in's agent, as soon as the service answers."""
    url = f"http://127.0.0.1:{PORT}"
    for _ in range(100):
        try:
            token = sign_in(url, "bench", PASSWORD)
            break
        except UnreachableError:
            time.sleep(0.2)
    folder = top / "m"
    (folder / "root/home/anna").mkdir(parents=True)
    volume = {"mount": "/", "folder": "root", "capacity": 10**9}
    state = {"system": "linux", "host": "bench", "people": ["anna"], "volumes": [volume]}
    (folder / "machine.toml").write_text(tomli_w.dumps(state), encoding="utf-8")
    with Phylax(url, token) as shop:
        client = shop.clients.add(ClientEdit(name="Bench"))
        shop.machines.add(MachineEdit(tag="bench", client_id=client.id, system=System.LINUX))
        code = shop.machines.enrolment_code("bench").code
    commands.enrol(AgentHome(top / "agent"), url, code, folder)


def _start(*words: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "phylax", *words],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip


def _end(*processes: subprocess.Popen[bytes]) -> None:
    for process in processes:
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=30)


def _idle(pid: int) -> tuple[float, int, float]:
    """Resident MiB (of its own and shared), wake-ups and processor seconds in a minute."""
    process = psutil.Process(pid)
    before, used = process.num_ctx_switches().voluntary, sum(process.cpu_times()[:2])
    time.sleep(SECONDS)
    after, now = process.num_ctx_switches().voluntary, sum(process.cpu_times()[:2])
    wakes = round((after - before) * 60 / SECONDS)
    return process.memory_info().rss / 2**20, wakes, (now - used) * 60 / SECONDS


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
