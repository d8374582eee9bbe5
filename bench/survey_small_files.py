"""A whole survey of 200,000 small files against `find -printf` over the same tree.

Run in turn after one warm-up each; the ratio is taken pair by pair and its median printed. The
survey is timed twice: as the agent does it, which runs already, from the order to the finished
lines (goal: at most 2.0); and as a process of its own, with the start of Python and all imports.
Memory is the peak of the whole process (goal: at most 64 MiB).
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

FILES = 200_000
FOLDERS = 2_000
PAIRS = 5

_SURVEY = """
import sys, time
from datetime import UTC, datetime
from phylax.agent.guard import Guard
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.surveyor import survey
from phylax.core.catalogue import category
from phylax.core.orders import CategoryRule
from phylax.core.retention import Scope, in_force

machine = LinuxMachine([sys.argv[1]])
rule = in_force([(Scope.CATALOGUE, category("user-temp").rule)])
look = [CategoryRule(category="user-temp", rule=rule)]
began = time.perf_counter()
(line,) = survey(machine, Guard(machine), look, datetime.now(UTC))
print(time.perf_counter() - began, line.holds.count)
"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "bench"
        tree = home / ".tmp"
        print(
            f"survey_small_files: laying out {FILES:,} files in {FOLDERS:,} folders …", flush=True
        )
        _lay_out(tree)
        survey = [sys.executable, "-c", _SURVEY, str(home)]
        find = ["find", str(tree), "-type", "f", "-printf", "%s %T@ %p\\n"]
        _measure(survey)
        _measure(find)
        pairs = [(_measure(survey), _measure(find)) for _ in range(PAIRS)]
    inside = [float(mine.last.split()[0]) for mine, _ in pairs]
    counted = {int(mine.last.split()[1]) for mine, _ in pairs}
    listed = {theirs.lines for _, theirs in pairs}
    assert counted == listed == {FILES}, f"counted {counted}, find listed {listed}"
    theirs = [find.seconds for _, find in pairs]
    print(f"  find            {statistics.median(theirs):.2f} s (medians of {PAIRS})")
    _print_ratio("survey", inside, theirs, "goal at most 2.0")
    _print_ratio("with start-up", [mine.seconds for mine, _ in pairs], theirs, "no goal")
    memory = max(mine.memory for mine, _ in pairs)
    print(f"  memory          {memory / 1024:.1f} MiB, goal at most 64 MiB")


def _print_ratio(name: str, mine: list[float], theirs: list[float], goal: str) -> None:
    ratios = [a / b for a, b in zip(mine, theirs, strict=True)]
    print(
        f"  {name:<15} {statistics.median(mine):.2f} s, ratio {statistics.median(ratios):.2f} "
        f"({min(ratios):.2f} to {max(ratios):.2f}), {goal}"
    )


def _lay_out(tree: Path) -> None:
    for number in range(FOLDERS):
        folder = tree / f"{number % 40:02d}" / f"{number:04d}"
        folder.mkdir(parents=True)
        for file in range(FILES // FOLDERS):
            (folder / f"part-{file:03d}.tmp").write_bytes(b"x" * (file % 7))


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
