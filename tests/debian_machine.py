"""A Debian machine with its own system manager, booted in a second: a copy of `.debian/root`, the
product's own source laid over it. Its network is this machine's."""

from __future__ import annotations

import fcntl
import os
import shlex
import signal
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from helpers import wait_until

ROOT = Path(__file__).parents[1]
LAID_OUT = ROOT / ".debian/root"
SITE = "usr/local/lib/python3.11/dist-packages"
DATA = "/var/lib/phylax-agent"


class DebianMachine:
    """One machine. Its files are below `root`, and what is written there it sees at once."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.root = folder / "root"
        self._nspawn: subprocess.Popen[bytes] | None = None
        self._leader = 0

    def mount(self) -> None:
        """The copy costs nothing: what is not written is the laid out root's."""
        for name in ("upper", "work", "root"):
            (self._folder / name).mkdir(parents=True, exist_ok=True)
        layers = f"lowerdir={LAID_OUT},upperdir={self._folder}/upper,workdir={self._folder}/work"
        subprocess.run(
            ["mount", "-t", "overlay", "overlay", "-o", layers, str(self.root)], check=True
        )

    def unmount(self) -> None:
        subprocess.run(["umount", "-l", str(self.root)], check=False)

    def boot(self, *binds: str) -> None:
        """Start it; returns when its system manager has started everything. `binds` are paths of
        this machine that it has too, as nspawn takes them."""
        log = (self._folder / "boot.log").open("ab")
        self._nspawn = subprocess.Popen(
            ["systemd-nspawn", "--quiet", "-D", str(self.root), "--boot", "--register=no",
             "--keep-unit", "--console=passive", f"--bind-ro={ROOT}/src/phylax:/{SITE}/phylax",
             *(f"--bind={path}" for path in binds)],
            stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True,
        )  # fmt: skip
        log.close()
        wait_until(self._has_leader, "the machine's first process", 120)
        wait_until(lambda: self.state in ("running", "degraded"), "the machine to start", 300)

    def _has_leader(self) -> bool:
        assert self._nspawn is not None
        assert self._nspawn.poll() is None, (self._folder / "boot.log").read_text()
        children = Path(f"/proc/{self._nspawn.pid}/task/{self._nspawn.pid}/children").read_text()
        # a helper of nspawn's comes and goes before the machine's own first process is there
        self._leader = next((int(pid) for pid in children.split() if _is_first(int(pid))), 0)
        return bool(self._leader)

    @property
    def state(self) -> str:
        return self.run("systemctl", "is-system-running", check=False).strip()

    def run(self, *command: str, check: bool = True, seconds: float = 300) -> str:
        """What a command says that is run on the machine, by root."""
        done = subprocess.run(
            ["nsenter", "-t", str(self._leader), "-a", "--", "env", "-i",
             "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8", *command],
            stdin=subprocess.DEVNULL, capture_output=True, text=True, check=False, timeout=seconds,
        )  # fmt: skip
        assert not check or done.returncode == 0, (
            f"{shlex.join(command)}: {done.stderr}{done.stdout}"
        )
        return done.stdout

    def phylax(self, *words: str) -> str:
        return self.run("python3", "-m", "phylax", *words)

    def journal(self) -> str:
        return self.run("journalctl", "--no-pager", "-o", "cat")

    def units(self, pattern: str) -> list[str]:
        """Names of the units of a pattern that are at work."""
        listed = self.run("systemctl", "list-units", "--plain", "--no-legend", pattern)
        return [line.split()[0] for line in listed.splitlines()]

    def stop(self) -> None:
        """Ended as by its switch; by force where that takes too long."""
        if self._nspawn is None or self._nspawn.poll() is not None:
            return
        self.run("systemctl", "poweroff", check=False)
        try:
            self._nspawn.wait(timeout=60)
        except subprocess.TimeoutExpired:
            self.cut_power()

    def cut_power(self) -> None:
        assert self._nspawn is not None
        os.kill(self._nspawn.pid, signal.SIGKILL)
        self._nspawn.wait()
        # the first process is nspawn's child and is ended with it; its own die of that
        deadline = time.monotonic() + 30
        while Path(f"/proc/{self._leader}").exists() and time.monotonic() < deadline:
            time.sleep(0.02)


def _is_first(pid: int) -> bool:
    """Whether a process is the system manager of a machine of its own."""
    try:
        status = Path(f"/proc/{pid}/status").read_text()
        program = Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return False
    numbers = status.partition("NSpid:")[2].partition("\n")[0].split()
    return len(numbers) > 1 and numbers[-1] == "1" and b"systemd-nspawn" not in program


@contextmanager
def debian(folder: Path, *binds: str) -> Iterator[DebianMachine]:
    """A machine that runs until the block ends. What it writes lies in memory."""
    folder.mkdir(parents=True, exist_ok=True)
    with _alone():
        yield from _debian(folder, *binds)


@contextmanager
def _alone() -> Iterator[None]:
    """One machine at a time: two in one control group would take each other's for their own."""
    lock = os.open("/run/lock/phylax-debian-machine", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield
    finally:
        os.close(lock)


def _debian(folder: Path, *binds: str) -> Iterator[DebianMachine]:
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=2g", "none", str(folder)], check=True)
    machine = DebianMachine(folder)
    try:
        machine.mount()
        try:
            machine.boot(*binds)
            yield machine
        finally:
            machine.stop()
            machine.unmount()
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=False)
