"""A survey of a million files under the whole catalogue against `find -printf` over the same tree.

Run in turn after one warm-up each; the ratio is taken pair by pair and its median printed. The
survey runs in one process and is timed twice: as the agent does it, which runs already, from the
order to the finished lines (goal: at most 2.0); and with the start of Python and all imports.
Memory is the peak of the whole process (goal: at most 64 MiB), with that for a tenth of the files
beside it, which should be the same.
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

FILES = 1_000_000
IN_A_FOLDER = 100
PAIRS = 3
SHARES = {
    ".tmp": 0.35, ".cache/drawing": 0.3, ".cache/chromium/Default/Cache": 0.1,
    ".cache/thumbnails": 0.04, ".cache/pip": 0.01, "Documents/projects": 0.19, "Downloads": 0.01,
}  # fmt: skip
"""Where in a home the files lie: temporary files, caches, documents, downloads with a listing."""

_SURVEY = """
import sys, time
from datetime import UTC, datetime
from phylax.agent.guard import Guard
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.surveyor import survey
from phylax.core.catalogue import catalogue
from phylax.core.orders import CategoryRule
from phylax.core.retention import Scope, in_force

machine = LinuxMachine([sys.argv[1]])
look = [
    CategoryRule(category=key, rule=in_force([(Scope.CATALOGUE, kind.rule)]))
    for key, kind in catalogue().items()
]
listed = 0
def listing(category, item):
    global listed
    listed += 1
seen = 0
def watch(category, items, size):
    global seen
    seen += items
began = time.perf_counter()
lines = survey(machine, Guard(machine), look, datetime.now(UTC), listing=listing, watch=watch)
took = time.perf_counter() - began
print(took, sum(line.holds.count for line in lines), listed)
"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        small = _survey_of(Path(folder), FILES // 10, pairs=0)
        big = _survey_of(Path(folder), FILES, pairs=PAIRS)
    print(
        f"  memory          {big / 1024:.1f} MiB, goal at most 64 MiB; "
        f"{small / 1024:.1f} MiB with {FILES // 10:,} files"
    )


def _survey_of(folder: Path, files: int, *, pairs: int) -> int:
    """Lay out, survey and compare; the survey's peak memory in KiB."""
    home = folder / f"bench-{files}"
    print(f"survey_full: laying out {files:,} files …", flush=True)
    counted = _lay_out(home, files)
    survey = [sys.executable, "-c", _SURVEY, str(home)]
    find = ["find", str(home), "-type", "f", "-printf", "%s %T@ %p\\n"]
    first = _measure(survey)
    held, listed = (int(n) for n in first.last.split()[1:])
    assert held == counted, f"the survey counted {held}, {counted} lie in categories' places"
    assert listed == int(files * SHARES["Downloads"])
    _measure(find)
    measured = [(_measure(survey), _measure(find)) for _ in range(pairs)]
    shutil.rmtree(home)
    if measured:
        theirs = [other.seconds for _, other in measured]
        print(f"  find            {statistics.median(theirs):.2f} s (medians of {pairs})")
        inside = [float(mine.last.split()[0]) for mine, _ in measured]
        _print_ratio("survey", inside, theirs, "goal at most 2.0")
        _print_ratio("with start-up", [m.seconds for m, _ in measured], theirs, "no goal")
    return max(first.memory, *(mine.memory for mine, _ in measured), 0)


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
