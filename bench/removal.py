"""Letting 200,000 files in 1,000 folders go, outcomes and all, against `find TREE -type f -delete`
on a copy; holding them, and putting them back, against `mv`.

Run in turn, each on a tree of its own; the ratio is taken pair by pair and its median printed. A
root agent does it through the worker of the person whose files they are, and is timed from the
order to the outcomes. What is made again by itself is looked at and removed in one breath (goal: at
most 1.6); all else is moved aside first, looked at there, and removed (goal: at most 2.3). Memory
is the peak of the agent and of its workers; with a tenth of the files it should be the same.
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

from bench.people import PERSON
from bench.volume import volume

FILES, FOLDERS, PAIRS = 200_000, 1_000, 3


def main() -> None:
    with volume() as top:
        print(f"removal: {FILES:,} files in {FOLDERS:,} folders, {PAIRS} pairs in turn", flush=True)
        small_home = _lay_out(top / "small", FILES // 10)
        _, small = _engine(small_home, top / "small-own", "for good")
        delete = ["find", "{tree}", "-type", "f", "-delete"]
        memory = _compare(top, "removing", "for good", delete, "goal 1.6")
        _compare(top, "removing aside", "aside", delete, "goal 2.3")
        print(
            f"  memory          agent {memory[0] / 1024:.1f} MiB, worker {memory[1] / 1024:.1f};"
            f" with a tenth {small[0] / 1024:.1f} and {small[1] / 1024:.1f}"
        )
        _compare_hold(top)


def _compare(top: Path, name: str, what: str, yardstick: list[str], goal: str) -> tuple[int, int]:
    below = "Downloads" if what == "aside" else ".tmp"
    ratios, memory = [], (0, 0)
    for pair in range(PAIRS + 1):
        ours, memory = _engine(_lay_out(top / "ours", below=below), top / "own", what)
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
    _say("holding", "mv", held, "goal 1.6")
    _say("putting back", "mv -n", back, "goal 1.8")


def _move_back(aside: Path, folders: list[Path]) -> None:
    each, names = FILES // FOLDERS, sorted(os.listdir(aside))
    for number, folder in enumerate(folders):
        mine = names[number * each : (number + 1) * each]
        subprocess.run(["mv", "-n", "-t", str(folder), *mine], cwd=aside, check=True)


def _engine(home: Path, own: Path, what: str) -> tuple[float, tuple[int, int]]:
    """Seconds and the peaks of memory of agent and workers in KiB; everything must have gone."""
    own.mkdir(exist_ok=True)
    files = _files_in(home)
    command = [sys.executable, "-m", "bench.people", str(home), str(own), what]
    os.sync()
    told = subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()
    after, count = _files_in(home), int(told[1])
    assert count == abs(files - after) > 0, (what, files, after, told)
    return float(told[0]), (int(told[2]), int(told[3]))


def _files_in(home: Path) -> int:
    return sum(len(names) for _, _, names in os.walk(home))


def _timed(command: list[str]) -> float:
    return _time(lambda: subprocess.run(command, check=True))


def _time(action: Callable[[], object]) -> float:
    os.sync()
    began = time.perf_counter()
    action()
    return time.perf_counter() - began


def _lay_out(home: Path, files: int = FILES, below: str = ".tmp") -> Path:
    each = FILES // FOLDERS
    old = time.time() - 9 * 86400
    for number in range(files // each):
        folder = home / below / f"{number:04d}"
        folder.mkdir(parents=True)
        for name in range(each):
            path = folder / f"{number:04d}-{name:04d}.dat"
            path.write_bytes(b"x")
            os.utime(path, (old, old))
            os.chown(path, PERSON, PERSON)
        os.chown(folder, PERSON, PERSON)
    os.chown(home / below, PERSON, PERSON)
    os.chown(home, PERSON, PERSON)
    return home


def _clear(top: Path) -> None:
    for name in ("ours", "theirs", "own", "aside", ".phylax-held"):
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
