"""Runs every test that touches dates at chosen days, each in a process whose clock was moved there.

    python tools/dates.py [DAY ...]     a day as 2028-02-29T12:00:00, in UTC; without: all of them

The clock is moved for everything that asks for the time, in processes that tests start as well
(tools/moved_clock). Running time (timeouts, pauses) is left as it is. Agents on real files are left
out: the system stamps files by its own clock, and tests/attack gives them ages of their own.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

DAYS = {
    "2026-11-30T12:00:00": "the end of a month, a Monday",
    "2026-12-25T09:00:00": "a day that rounds leave out, a Friday",
    "2026-12-31T23:58:00": "the end of a year, a Thursday",
    "2027-01-01T00:02:00": "the first minutes of a year",
    "2027-03-28T00:58:00": "summer time begins in Europe, a Sunday",
    "2027-10-31T00:30:00": "summer time ends in Europe, the hour that comes twice",
    "2028-02-29T12:00:00": "a leap day, a Tuesday",
    "2028-03-01T03:00:00": "the day after, a Wednesday",
    "2029-06-30T21:00:00": "the end of a half-year, a Saturday",
    "2032-12-31T12:00:00": "the last day of a leap year",
    "2036-11-28T12:00:00": "ten years on",
    "2038-01-20T12:00:00": "after the last second of 32-bit clocks",
}
TESTS = ("core", "store", "service", "client", "cli", "demo")


def run_at(day: str) -> bool:
    """Whether the tests pass at a moment."""
    environment = os.environ | {
        "TZ": "UTC", "PHYLAX_TEST_DAY": f"{day}+00:00", "PYTHONPATH": "tools/moved_clock",
    }  # fmt: skip
    command = [
        sys.executable, "-m", "pytest", "-q", "-n", "2",
        "-p", "no:cacheprovider", *(f"tests/{part}" for part in TESTS),
    ]  # fmt: skip
    return subprocess.run(command, env=environment, check=False).returncode == 0


def main() -> None:
    os.chdir(Path(__file__).resolve().parent.parent)
    failed = []
    for day in sys.argv[1:] or DAYS:
        print(f"--- {day}: {DAYS.get(day, 'as asked for')}", flush=True)
        if not run_at(day):
            failed.append(day)
    if failed:
        sys.exit(f"Fails at {', '.join(failed)}")
    print("All days passed")


if __name__ == "__main__":
    main()
