"""A survey of a million files under the whole catalogue against `find -printf` over the same tree.

Run in turn after one warm-up each; the ratio is taken pair by pair and its median printed. A root
agent surveys through the worker of the person whose home it is, and is timed twice: as the agent
does it, which runs already, from the order to the finished lines (goal: at most 2.0); and with the
start of Python and all imports. Memory is the peak of the agent and of its worker (goal: at most 64
MiB each), with that for a tenth of the files beside it, and for one folder of 300,000 files, which
should be the same.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

from bench.people import PERSON

FILES = 1_000_000
IN_A_FOLDER = 100
PAIRS = 3
SHARES = {
    ".tmp": 0.35, ".cache/drawing": 0.3, ".cache/chromium/Default/Cache": 0.1,
    ".cache/thumbnails": 0.04, ".cache/pip": 0.01, "Documents/projects": 0.19, "Downloads": 0.01,
}  # fmt: skip
"""Where in a home the files lie: temporary files, caches, documents, downloads with a listing."""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.chmod(folder, 0o711)
        small = _survey_of(Path(folder), FILES // 10, pairs=0)
        big = _survey_of(Path(folder), FILES, pairs=PAIRS)
        flat = _flat(Path(folder))
    print("  memory          agent and worker, goal at most 64 MiB each:")
    for memory, what in ((big, f"{FILES:,} files"), (small, f"{FILES // 10:,}"), (flat, "flat")):
        print(
            f"                  {memory[0] / 1024:.1f} and {memory[1] / 1024:.1f} MiB with {what}"
        )


def _survey_of(folder: Path, files: int, *, pairs: int) -> tuple[int, int]:
    """Lay out, survey and compare; the peaks of memory in KiB of agent and worker."""
    home, own = folder / f"bench-{files}", folder / "own"
    own.mkdir(exist_ok=True)
    print(f"survey_full: laying out {files:,} files …", flush=True)
    counted = _lay_out(home, files)
    survey = [sys.executable, "-m", "bench.people", str(home), str(own), "look"]
    find = ["find", str(home), "-type", "f", "-printf", "%s %T@ %p\n"]
    first = _measure(survey)
    _, held, agent, worker, listed = first.last.split()
    assert int(held) == counted, f"the survey counted {held}, {counted} lie in categories' places"
    assert int(listed) == int(files * SHARES["Downloads"])
    _measure(find)
    measured = [(_measure(survey), _measure(find)) for _ in range(pairs)]
    shutil.rmtree(home)
    if measured:
        theirs = [other.seconds for _, other in measured]
        print(f"  find            {statistics.median(theirs):.2f} s (medians of {pairs})")
        inside = [float(mine.last.split()[0]) for mine, _ in measured]
        _print_ratio("survey", inside, theirs, "goal at most 2.0")
        _print_ratio("with start-up", [m.seconds for m, _ in measured], theirs, "no goal")
    return int(agent), int(worker)


def _flat(folder: Path) -> tuple[int, int]:
    """One folder of 300,000 files; the peaks of memory in KiB of agent and worker."""
    home, own = folder / "flat", folder / "own"
    place = home / ".tmp"
    place.mkdir(parents=True)
    for number in range(300_000):
        os.close(os.open(place / f"part-{number:06d}.tmp", os.O_CREAT | os.O_WRONLY))
    _give(home)
    survey = [sys.executable, "-m", "bench.people", str(home), str(own), "look"]
    _, held, agent, worker, _ = _measure(survey).last.split()
    assert held == "300000"
    return int(agent), int(worker)


def _give(home: Path) -> None:
    for folder, folders, files in os.walk(home):
        for name in (*folders, *files):
            os.chown(os.path.join(folder, name), PERSON, PERSON)
    os.chown(home, PERSON, PERSON)


def _print_ratio(name: str, mine: list[float], theirs: list[float], goal: str) -> None:
    ratios = [a / b for a, b in zip(mine, theirs, strict=True)]
    print(
        f"  {name:<15} {statistics.median(mine):.2f} s, ratio {statistics.median(ratios):.2f} "
        f"({min(ratios):.2f} to {max(ratios):.2f}), {goal}"
    )


def _lay_out(home: Path, files: int) -> int:
    """So many files; how many of them lie in a category's place and are large or old enough."""
    counted = 0
    for place, share in SHARES.items():
        many = int(files * share)
        counted += 0 if place.startswith("Documents") else many
        for number in range(many // IN_A_FOLDER):
            folder = home / place / f"{number % 40:02d}" / f"{number:05d}"
            folder.mkdir(parents=True)
            for file in range(IN_A_FOLDER):
                handle = os.open(folder / f"part-{file:03d}.tmp", os.O_CREAT | os.O_WRONLY)
                os.write(handle, b"x" * (file % 7))
                os.close(handle)
    _give(home)
    return counted


class _Measured(NamedTuple):
    seconds: float
    memory: int
    """Peak resident memory in KiB, as the system accounts it."""
    lines: int
    last: str


def _measure(command: list[str]) -> _Measured:
    with tempfile.TemporaryFile("w+") as out:
        began = time.perf_counter()
        process = subprocess.Popen(command, stdout=out)
        _, status, usage = os.wait4(process.pid, 0)
        took = time.perf_counter() - began
        if status:
            raise SystemExit(f"{command[0]} ended with {status}")
        out.seek(0)
        # line by line: the peak of a child is at least what its parent held when it was started
        lines, last = 0, ""
        for last in out:  # noqa: B007
            lines += 1
        return _Measured(took, usage.ru_maxrss, lines, last)


if __name__ == "__main__":
    main()
