"""Letting 200,000 files in 1,000 folders go, outcomes and all, against `find TREE -type f -delete`
on a copy; holding them, and putting them back, against `mv`.

Run in turn, each on a tree of its own; the ratio is taken pair by pair and its median printed. The
engine runs in one process and is timed as the agent does it, from the order to the outcomes
(goal for removing: at most 2.0). Memory is the peak of the whole process; with a tenth of the files
it should be the same.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from bench.volume import volume

FILES, FOLDERS, PAIRS = 200_000, 1_000, 3

_WORK = """
import resource, sys, time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from phylax.agent.cleaner import Cleaner
from phylax.agent.guard import Guard
from phylax.agent.held_work import HeldWork
from phylax.agent.hold import Hold
from phylax.agent.journal import RunJournal
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.spool import Spool
from phylax.core.holds import BatchPick
from phylax.core.orders import HeldOrder, SurveyOrder
from phylax.core.retention import Rule, Scope, in_force

home, own, what = sys.argv[1:]
machine = LinuxMachine([home])
hold = Hold(machine, own, at_most_percent=100)
said = Rule(off=False, keep_for=timedelta(days=1))
rule = in_force([(Scope.CATALOGUE, said)])
if what == "hold":
    rule = in_force([(Scope.CATALOGUE, said), (Scope.SHOP, Rule(hold_for=timedelta(days=3)))])
order = SurveyOrder(run_id=1, lease="l", look=())
journal = RunJournal.begin(Path(own, f"{what}.jsonl"), order, "now", [])
watched = 0
def watch(category, items, size):
    global watched
    watched += items
began = time.perf_counter()
if what == "put back":
    picks = tuple(BatchPick(batch=batch.name) for batch in hold.batches())
    order = HeldOrder(kind="put back", run_id=2, lease="l", picks=picks)
    did = HeldWork(hold, Spool(Path(own, "spool")), order, journal, watch).carry_out()
    count = sum(one.put_back.count for one in did["outcomes"])
else:
    guard = Guard(machine, [own, *hold.possible()])
    cleaner = Cleaner(machine, guard, journal, hold, 1, datetime.now(UTC), watch)
    cleaner.clean("user-temp", rule, [])
    outcome = cleaner.outcome("user-temp")
    count = outcome.removed.count + outcome.held.count
took = time.perf_counter() - began
print(took, count, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
"""


def main() -> None:
    with volume() as top:
        print(f"removal: {FILES:,} files in {FOLDERS:,} folders, {PAIRS} pairs in turn", flush=True)
        _, small = _engine(_lay_out(top / "small", FILES // 10), top / "small-own", "for good")
        memory = _compare(
            top, "removing", "for good", ["find", "{tree}", "-type", "f", "-delete"], "goal 2.0"
        )
        print(f"  memory          {memory / 1024:.1f} MiB; {small / 1024:.1f} MiB with a tenth")
        _compare_hold(top)


def _compare(top: Path, name: str, what: str, yardstick: list[str], goal: str) -> int:
    ratios, memory = [], 0
    for pair in range(PAIRS + 1):
        ours, memory = _engine(_lay_out(top / "ours"), top / "own", what)
        tree = _lay_out(top / "theirs")
        theirs = _timed([part.format(tree=tree / ".tmp") for part in yardstick])
        if pair:  # the first warms up
            ratios.append((ours / theirs, ours, theirs))
        _clear(top)
    _say(name, " ".join(yardstick[:1]), ratios, goal)
    return memory


def _compare_hold(top: Path) -> None:
    """Holding against moving all files aside with mv; putting back against moving them back."""
    held, back = [], []
    for pair in range(PAIRS + 1):
        home = _lay_out(top / "ours")
        ours, _ = _engine(home, top / "own", "hold")
        ours_back, _ = _engine(home, top / "own", "put back")
        tree = _lay_out(top / "theirs") / ".tmp"
        aside = top / "aside"
        aside.mkdir()
        away = _timed(["find", str(tree), "-type", "f", "-exec", "mv", "-t", str(aside), "{}", "+"])
        returned = _time(partial(_move_back, aside, sorted(tree.iterdir())))
        if pair:
            held.append((ours / away, ours, away))
            back.append((ours_back / returned, ours_back, returned))
        _clear(top)
    _say("holding", "mv", held, "")
    _say("putting back", "mv -n", back, "")


def _move_back(aside: Path, folders: list[Path]) -> None:
    each, names = FILES // FOLDERS, sorted(os.listdir(aside))
    for number, folder in enumerate(folders):
        mine = names[number * each : (number + 1) * each]
        subprocess.run(["mv", "-n", "-t", str(folder), *mine], cwd=aside, check=True)


def _engine(home: Path, own: Path, what: str) -> tuple[float, int]:
    """Seconds and the peak of memory in KiB; everything must have gone."""
    own.mkdir(exist_ok=True)
    files = sum(len(found) for _, _, found in os.walk(home / ".tmp"))
    command = [sys.executable, "-c", _WORK, str(home), str(own), what]
    os.sync()
    told = subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()
    after = sum(len(found) for _, _, found in os.walk(home / ".tmp"))
    count = int(told[1])
    assert count == abs(files - after) > 0, (what, files, after, told)
    return float(told[0]), int(told[2])


def _timed(command: list[str]) -> float:
    return _time(lambda: subprocess.run(command, check=True))


def _time(deed: Callable[[], object]) -> float:
    os.sync()
    began = time.perf_counter()
    deed()
    return time.perf_counter() - began


def _lay_out(home: Path, files: int = FILES) -> Path:
    each = FILES // FOLDERS
    old = time.time() - 9 * 86400
    for number in range(files // each):
        folder = home / f".tmp/{number:04d}"
        folder.mkdir(parents=True)
        for name in range(each):
            path = folder / f"{number:04d}-{name:04d}.dat"
            path.write_bytes(b"x")
            os.utime(path, (old, old))
    return home


def _clear(top: Path) -> None:
    for name in ("ours", "theirs", "own", "aside"):
        shutil.rmtree(top / name, ignore_errors=True)


def _say(name: str, yardstick: str, ratios: list[tuple[float, float, float]], goal: str) -> None:
    middle = statistics.median(ratio for ratio, _, _ in ratios)
    ours = statistics.median(ours for _, ours, _ in ratios)
    theirs = statistics.median(theirs for _, _, theirs in ratios)
    low, high = min(ratios)[0], max(ratios)[0]
    print(
        f"  {name:<15} {ours:.2f} s, {yardstick} {theirs:.2f} s, ratio {middle:.2f} "
        f"({low:.2f} to {high:.2f}){', ' + goal if goal else ''}",
        flush=True,
    )


if __name__ == "__main__":
    main()
