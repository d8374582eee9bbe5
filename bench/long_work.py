"""A full scan of 20,000 small files through a real scanner that has a few signatures of our own,
against the scanner's own client doing the same (the yardstick); and how soon it ends when it is
called off. Bounded: it stops by itself."""

from __future__ import annotations

import hashlib
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from phylax.agent.machines.linux.checks import malware
from phylax.agent.survey.task import Stopped

FILES, TURNS = 20_000, 3
CLAMD, CLIENT = "/usr/sbin/clamd", "/usr/bin/clamdscan"


def _watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


def _lay(folder: Path) -> None:
    for number in range(FILES):
        path = folder / f"d{number % 100}" / f"f{number}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x" * (number % 500))


def _median_of(work: Callable[[], object]) -> float:
    took = []
    for _ in range(TURNS):
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return statistics.median(took)


def _called_off(tops: list[tuple[str, str]], socket: str) -> float:
    """Seconds from the call to the end, asked for in the middle."""
    asked: list[float] = []

    def stop(done: int = 0, of: int | None = None) -> None:
        if done >= FILES // 2:
            asked.append(time.perf_counter())
            raise Stopped

    try:
        malware.scan(tops, "full", stop, socket)
    except Stopped:
        return time.perf_counter() - asked[0]
    raise AssertionError("it was not called off")


def main() -> None:
    if not Path(CLAMD).exists():
        print("scan for malware: no scanner is installed here")
        return
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        (folder / "signatures").mkdir()
        text = malware.TEST_TEXT
        line = f"{hashlib.md5(text).hexdigest()}:{len(text)}:Test.Text\n"
        (folder / "signatures/own.hdb").write_text(line)
        configuration = folder / "clamd.conf"
        configuration.write_text(
            f"LocalSocket {folder}/socket\nDatabaseDirectory {folder}/signatures\nUser root\n"
            "Foreground yes\n"
        )
        files = folder / "files"
        _lay(files)
        daemon = subprocess.Popen([CLAMD, "-c", configuration], stdout=subprocess.DEVNULL)
        try:
            while not (folder / "socket").exists():
                time.sleep(0.05)
            tops, socket = [(str(files), "/")], f"{folder}/socket"
            ours = _median_of(lambda: malware.scan(tops, "full", _watch, socket))
            words = f"scan of {FILES} files: {ours:.2f} s"
            if Path(CLIENT).exists():
                client = [CLIENT, "-c", str(configuration), "--fdpass", "--quiet", str(files)]
                theirs = _median_of(lambda: subprocess.run(client, check=False))
                words += f", the scanner's own client {theirs:.2f} s, ratio {ours / theirs:.2f}"
            print(f"{words}; called off within {_called_off(tops, socket):.2f} s")
        finally:
            daemon.kill()
            daemon.wait()


if __name__ == "__main__":
    main()
