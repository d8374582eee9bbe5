"""What several tests need: a clock, folders full of files, pretended machines, agents."""

from __future__ import annotations

import itertools
import os
import signal
import socket
import subprocess
import sys
import time
import tomllib
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, date, datetime, timedelta
from datetime import time as time_of_day
from pathlib import Path

import pytest
import tomli_w

from phylax.agent.config.home import AgentHome
from phylax.agent.runtime import commands
from phylax.agent.runtime.loop import Agent
from phylax.client import Phylax
from phylax.core.attention import Attention, Cause
from phylax.core.scheduling.rounds import RoundEdit
from phylax.service.attention import monitor
from phylax.service.context.context import Context

Run = Callable[..., subprocess.CompletedProcess[str]]
"""Runs the command line with these words."""
PASSWORD = "correct horse battery"
TUESDAY = RoundEdit(
    name="Tuesdays", routine_id=1, recurrence="FREQ=WEEKLY;BYDAY=TU", at=time_of_day(18, 30),
    starts_on=date(2026, 3, 1), catch_up=timedelta(hours=2), spread=timedelta(0), machine_ids=(1,),
)  # fmt: skip

INVENTED = """
key = "tea-leaves"
order = 99
name = "Tea leaves"
description = "What is left in the pot."
cost = "Nobody can read the future from them any more."
caution = "safe"
age = "modified"
rule = { off = false, keep_for = "P2D" }
[[where]]
systems = ["linux"]
base = "user-cache"
below = ["teapot/*/leaves"]
"""
"""A category that nobody needs, as a file of the catalogue."""


class Clock:
    """A clock that stands still until a test moves it."""

    def __init__(self, now: datetime) -> None:
        self.now = now

    def __call__(self) -> datetime:
        return self.now

    def pass_(self, span: timedelta) -> None:
        self.now += span


_WORKERS_PORTS = 700


def _ports() -> Iterator[int]:
    """This worker's own, below those that the system takes for connections to elsewhere: whoever is
    told one of these finds it free a moment later as well."""
    worker = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:]) % 16
    first = 20_000 + _WORKERS_PORTS * worker
    for number in itertools.count(os.getpid()):
        yield first + number % _WORKERS_PORTS


_PORTS = _ports()


def free_port() -> int:
    for port in _PORTS:
        with suppress(OSError), socket.socket() as probe:
            probe.bind(("127.0.0.1", port))
            return port
    raise AssertionError("ports never end")


def make_file(path: Path, size: int = 1000, *, days_old: float = 0.0) -> Path:
    """A file of real bytes and an age."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(b"x" * size)
    at = time.time() - days_old * 86400
    os.utime(path, (at, at), follow_symlinks=False)
    return path


SBIN = os.environ | {"PATH": f"{os.environ['PATH']}:/usr/sbin:/sbin"}
"""Where the system keeps tools for file systems."""


def make_old(image: Path, mount: Path, paths: Iterable[Path], days: float) -> None:
    """Make things on an ext4 image truly old, change time and all, which no program may: by writing
    into the image while it is not mounted."""
    second = int(time.time() - days * 86400)
    numbers = [path.lstat().st_ino for path in paths]
    script = image.with_suffix(".times")
    script.write_text(
        "".join(
            f"set_inode_field <{number}> {field} @{second}\n"
            for number in numbers
            for field in ("ctime", "mtime", "crtime")
        )
    )
    subprocess.run(["umount", str(mount)], check=True)
    debugfs = ["debugfs", "-w", "-f", str(script), str(image)]
    subprocess.run(debugfs, check=True, capture_output=True, env=SBIN)
    subprocess.run(["mount", "-o", "loop", str(image), str(mount)], check=True)


def wait_until(is_so: Callable[[], bool], what: str, seconds: float = 60.0) -> None:
    """Wait for something another process does; fails with what was waited for."""
    deadline = time.monotonic() + seconds
    while not is_so():
        assert time.monotonic() < deadline, f"waited {seconds:.0f} s in vain: {what}"
        time.sleep(0.02)


def make_standin(
    folder: Path,
    *,
    system: str = "linux",
    person: str = "anna",
    files_in_use: tuple[str, ...] = (),
    programs_open: tuple[str, ...] = (),
    items_per_second: float = 0,
) -> Path:
    """A pretended machine with one volume and one person; returns the person's home."""
    mount, top = ("/", "root") if system != "windows" else ("C:", "C")
    home = folder / top / ("home" if system == "linux" else "Users") / person
    home.mkdir(parents=True)
    state = {
        "system": system,
        "host": "pretended",
        "people": [person],
        "volumes": [{"mount": mount, "folder": top, "capacity": 10**9, "base_used": 10**8}],
        "files_in_use": list(files_in_use),
        "programs_open": list(programs_open),
        "items_per_second": items_per_second,
    }
    (folder / "machine.toml").write_text(tomli_w.dumps(state), encoding="utf-8")
    return home


def two_drives(folder: Path) -> Path:
    """A pretended Windows machine with C: and D:; the home of its person, on C:."""
    home = make_standin(folder, system="windows")
    state = folder / "machine.toml"
    said = tomllib.loads(state.read_text())
    said["volumes"].append({"mount": "D:", "folder": "D", "capacity": 10**9, "base_used": 0})
    state.write_text(tomli_w.dumps(said))
    (folder / "D").mkdir()
    return home


@contextmanager
def living_demo(data: Path, out: Path) -> Iterator[Phylax]:
    """The demo started as `make demo` starts it, what it prints in a file; ended by Ctrl-C."""
    port = free_port()
    words = [sys.executable, "-m", "phylax", "demo", "--data", str(data), "--port", str(port)]
    with out.open("w") as file:
        process = subprocess.Popen(words, stdout=file, stderr=subprocess.STDOUT)
    wait_until(lambda: "Ctrl-C stops" in out.read_text(), "the demo to be ready", 300)
    assert f"Phylax is ready at http://127.0.0.1:{port}" in out.read_text()
    token = data / "owner.token"
    assert token.stat().st_mode & 0o077 == 0
    with Phylax(f"http://127.0.0.1:{port}", token.read_text().strip()) as shop:
        yield shop
    process.send_signal(signal.SIGINT)
    assert process.wait(timeout=60) == 0
    with pytest.raises(subprocess.CalledProcessError):
        subprocess.run(["pgrep", "-f", str(data)], check=True, capture_output=True)


def enrol(shop: Phylax, tag: str, folder: Path, standin: Path) -> Agent:
    """Enrol a stand-in's agent by a fresh code, and return it ready to work."""
    home = AgentHome(folder)
    code = shop.machines.enrolment_code(tag).code
    commands.enrol(home, shop.url, code, standin)
    return Agent(home)


def trashed(home: Path, name: str, size: int, *, days_ago: float) -> Path:
    """A file in a freedesktop.org trash, deleted so long ago."""
    trash = home / ".local/share/Trash"
    path = make_file(trash / "files" / name, size)
    deleted = datetime.now(UTC).astimezone() - timedelta(days=days_ago)
    info = trash / "info" / f"{name}.trashinfo"
    info.parent.mkdir(parents=True, exist_ok=True)
    info.write_text(
        f"[Trash Info]\nPath=/home/anna/{name}\nDeletionDate={deleted:%Y-%m-%dT%H:%M:%S}\n",
        encoding="utf-8",
    )
    return path


def needs_attention(context: Context, shop: Phylax) -> list[Attention]:
    """What needs a person, after a survey now; but for clocks, which are set by tests."""
    monitor.whole(context)
    return [item for item in shop.attention.list() if item.cause is not Cause.CLOCK_WRONG]
