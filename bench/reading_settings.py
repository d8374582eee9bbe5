"""Reading everything that starts by itself on this very machine, and its settings of one value,
against asking the system's own tools for the same sources (the yardstick): what units there are and
how they stand, which autostart entries would start, which packages the files belong to. Nothing is
changed. Bounded: it stops by itself.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from phylax.agent.machines.linux import LinuxMachine

TURNS = 5
GENERATOR = "/usr/lib/systemd/user-generators/systemd-xdg-autostart-generator"


def ours() -> int:
    machine = LinuxMachine()
    return len(machine.programs()) + len(machine.values())


def theirs() -> int:
    """The same facts from the system's tools; one call for each kind of source."""
    number = 0
    paths: list[str] = []
    for scope in ([], ["--global"]):
        listed = subprocess.run(
            ["systemctl", "--root=/", *scope, "--output=json", "list-unit-files"],
            check=True, capture_output=True,
        ).stdout  # fmt: skip
        units = json.loads(listed)
        number += len(units)
        folder = "user" if scope else "system"
        paths += [
            path
            for unit in units
            if os.path.exists(path := f"/usr/lib/systemd/{folder}/{unit['unit_file']}")
        ]
    with tempfile.TemporaryDirectory() as out:
        environment = os.environ | {"XDG_CURRENT_DESKTOP": "GNOME"}
        subprocess.run([GENERATOR, out, out, out], check=True, env=environment, capture_output=True)
        number += len(list(Path(out).glob("app-*.service")))
    # what each file belongs to; a file of no package ends it with 1
    subprocess.run(["dpkg-query", "-S", *paths], check=False, capture_output=True)
    for timer in ("apt-daily.timer", "apt-daily-upgrade.timer"):
        subprocess.run(
            ["systemd-analyze", "--root=/", "cat-config", f"systemd/system/{timer}"],
            check=False, capture_output=True,
        )  # fmt: skip
    return number


def median_of(work: Callable[[], object]) -> float:
    """Seconds."""
    took = []
    for _ in range(TURNS):
        begin = time.perf_counter()
        work()
        took.append(time.perf_counter() - begin)
    return statistics.median(took)


def main() -> None:
    mine, others = median_of(ours), median_of(theirs)
    print(f"reading startup programs and settings: median of {TURNS}")
    print(f"  ours:               {1000 * mine:7.0f} ms, {ours()} programs and settings")
    print(f"  the system's tools: {1000 * others:7.0f} ms, {theirs()} units and entries")
    print(f"  ratio:              {mine / others:7.2f}")


if __name__ == "__main__":
    main()
