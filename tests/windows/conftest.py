"""A Windows of one's own: a Windows Python under Wine, with a drive C: in a temporary folder."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
PYTHON = ROOT / ".windows/python.exe"
WINE = shutil.which("wine")
SID = "S-1-5-21-1-2-3-1001"


_WINE_DIED = re.compile(r"wine: Unhandled page fault[^\n]*\n?")


def started(start: Callable[[], subprocess.Popen[str]], word: str) -> subprocess.Popen[str]:
    """A program that runs and has said a word. Now and then Wine dies while it starts; nothing of
    ours has run by then, and it is started again."""
    printed = ""
    for _ in range(3):
        process = start()
        assert process.stdout is not None
        for line in process.stdout:
            # Wine itself may have something to say before
            if line.strip() == word:
                return process
            printed += line
        process.wait(timeout=60)
    raise AssertionError(f"it never said {word!r}: {printed}")


@dataclass
class Windows:
    """One Wine prefix. Paths inside are as Windows writes them."""

    prefix: Path

    @property
    def drive(self) -> Path:
        """Its drive C:, as this machine sees it."""
        return self.prefix / "drive_c"

    @property
    def home(self) -> Path:
        (home,) = (p for p in (self.drive / "users").iterdir() if p.name != "Public")
        return home

    def path(self, below: Path) -> str:
        return "C:\\" + str(below.relative_to(self.drive)).replace("/", "\\")

    def environment(self) -> dict[str, str]:
        return os.environ | {
            "WINEPREFIX": str(self.prefix),
            "WINEDEBUG": "-all",
            "HOME": str(self.prefix.parent),
            "PYTHONUTF8": "1",
            "WINEDLLOVERRIDES": "mscoree,mshtml=",
        }

    def start(self, *words: str) -> subprocess.Popen[str]:
        assert WINE is not None
        return subprocess.Popen(
            [WINE, str(PYTHON), *words],
            env=self.environment(),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            encoding="utf-8",
            errors="replace",
        )

    def run(self, *words: str) -> str:
        """Run the Windows Python to its end; what it printed. Fails where it failed."""
        for _ in range(3):
            process = self.start(*words)
            try:
                out, _ = process.communicate("", timeout=300)
            except subprocess.TimeoutExpired:
                process.kill()
                raise
            # Wine died while it started: nothing of ours has run
            if process.returncode == 0 or not _WINE_DIED.fullmatch(out):
                break
        assert process.returncode == 0, out
        return out

    def keep_open(self, path: Path) -> subprocess.Popen[str]:
        """A program that keeps a file open until it is written a line."""
        code = f"f = open({self.path(path)!r}); print('open', flush=True); input()"
        return started(lambda: self.start("-c", code), "open")

    def system(self, *words: str) -> subprocess.CompletedProcess[str]:
        """Run a program of the system."""
        assert WINE is not None
        return subprocess.run(
            [WINE, *words],
            env=self.environment(),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            timeout=60,
            check=False,
        )

    def phylax(self, *words: str) -> str:
        return self.run("-m", "phylax", *words)

    def inside(self, name: str, *words: str) -> str:
        """One of the checks in inside.py, which are carried out by the Windows Python."""
        return self.run("-m", "windows.inside", name, *words)

    def trash(self, name: str, size: int, *, days_ago: float, sid: str = SID) -> Path:
        """Something deleted so long ago, as Windows lays it out (version 2 of $I)."""
        folder = self.drive / "$Recycle.Bin" / sid
        folder.mkdir(parents=True, exist_ok=True)
        thing = folder / f"$R{name}"
        thing.write_bytes(b"x" * size)
        when = int((time.time() - days_ago * 86400 + 11_644_473_600) * 10**7)
        path = f"C:\\users\\someone\\{name}\0".encode("utf-16-le")
        header = [2, size, when]
        (folder / f"$I{name}").write_bytes(
            b"".join(n.to_bytes(8, "little") for n in header)
            + (len(path) // 2).to_bytes(4, "little")
            + path
        )
        return thing


@pytest.fixture(scope="session")
def fresh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A prefix nobody has used yet, with no folder of this machine's linked into it."""
    if WINE is None or not PYTHON.exists():
        pytest.skip("no Wine, or no Windows Python: make .windows/.ready")
    windows = Windows(tmp_path_factory.mktemp("wine") / "prefix")
    windows.run("-c", "pass")
    for link in [path for path in windows.home.rglob("*") if path.is_symlink()]:
        link.unlink()
        link.mkdir()
    yield windows.prefix
    end(windows)


@pytest.fixture
def windows(fresh: Path) -> Windows:
    """The same prefix for all, since making one takes long; what tests leave is taken away."""
    found = Windows(fresh)
    for name in ("$Recycle.Bin", "agent", "scratch", "scans"):
        shutil.rmtree(found.drive / name, ignore_errors=True)
    for below in ("Temp", "Downloads", "AppData/Local", "Documents"):
        shutil.rmtree(found.home / below, ignore_errors=True)
        (found.home / below).mkdir(parents=True)
    return found


def end(windows: Windows) -> None:
    """End this prefix's own server, and with it all that runs in it."""
    server = shutil.which("wineserver") or "/usr/lib/wine/wineserver64"
    if Path(server).exists():
        subprocess.run([server, "-k"], env=windows.environment(), check=False, timeout=30)
