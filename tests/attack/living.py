"""Somebody at work in their home while it is cleaned.

Saves new files, saves over old names, moves folders in and out, swaps folders for links. The digest
of everything that they wrote, and did not write over themselves, is in the log before they go on.
"""

from __future__ import annotations

import hashlib
import multiprocessing
import os
import random
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from multiprocessing.synchronize import Event
from pathlib import Path

MOST = 4_000
PLACES = (".tmp", ".cache/app", ".cache/other", "Downloads", ".local/share/Trash/files")
ASIDE = ("Downloads", ".local/share/Trash/files")
"""Where what goes is moved aside first: nobody who saves over a name there loses anything."""


@contextmanager
def at_work(home: Path, log: Path, seed: int, uid: int) -> Iterator[None]:
    """For so long, somebody is; they have begun when this does."""
    kind = multiprocessing.get_context("fork")
    stop = kind.Event()
    process = kind.Process(target=_live, args=(home, log, seed, uid, stop))
    process.start()
    try:
        while not log.stat().st_size:
            assert process.is_alive()
        yield
    finally:
        stop.set()
        process.join()
    assert process.exitcode == 0


def _live(home: Path, log: Path, seed: int, uid: int, stop: Event) -> None:
    os.setgroups([])
    os.setgid(uid)
    os.setuid(uid)
    os.umask(0o077)
    rng, number = random.Random(seed), 0
    old = [p for place in ASIDE for p in (home / place).glob("*") if p.is_file()]
    shuttle, link = home / "Documents/shuttle", home / ".cache/swapped"
    shuttle.mkdir(parents=True)
    link.mkdir()
    with log.open("a") as lines:

        def write(path: Path) -> None:
            nonlocal number
            number += 1
            content = f"{seed} {number}".encode()
            path.write_bytes(content)
            lines.write(hashlib.sha256(content).hexdigest() + "\n")
            lines.flush()

        write(shuttle / "inside")
        while number < MOST and not stop.is_set():
            time.sleep(0.0005)
            action = rng.randrange(5)
            with suppress(OSError):
                if action == 0:
                    write(home / rng.choice(PLACES) / f"new-{number}")
                elif action == 1 and old:
                    new = home / f"Documents/new-{number}"
                    write(new)
                    new.rename(old.pop())
                elif action == 2:
                    away = home / ".tmp/shuttle"
                    here, there = (shuttle, away) if shuttle.exists() else (away, shuttle)
                    here.rename(there)
                elif action == 3:
                    other = home / ".cache/folder"
                    link.rename(other)
                    link.symlink_to(home / "Documents")
                    link.unlink()
                    other.rename(link)
                else:
                    folder = home / rng.choice(PLACES) / f"folder-{number}"
                    folder.mkdir()
                    write(folder / "inside")
                    folder.rename(folder.with_name(f"moved-{number}"))
