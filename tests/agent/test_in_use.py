"""What is open is left: files anywhere on the machine, programs by their name or their lock."""

from __future__ import annotations

import fcntl
import mmap
import os
import random
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from engine import Bench, NothingRuns
from helpers import make_file
from phylax.agent import files
from phylax.agent.cleaning import remover
from phylax.core.retention import Reason


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return tmp_path / "anna"


@pytest.fixture
def real(tmp_path: Path, home: Path) -> Bench:
    home.mkdir()
    return Bench(NothingRuns([str(home)]), tmp_path)


def reasons(outcome) -> dict[str, int]:
    return {stay.reason: stay.count for stay in outcome.left}


def test_a_browser_under_another_name_is_known_by_its_lock(real: Bench, home: Path) -> None:
    cached = make_file(home / ".cache/chromium/Default/Cache/1", days_old=1)
    lock = home / ".config/chromium/SingletonLock"
    lock.parent.mkdir(parents=True)
    lock.symlink_to(f"{socket.gethostname()}-{os.getpid()}")
    outcome, _ = real.clean("web-cache", keep_for="P0D")
    assert reasons(outcome) == {Reason.PROGRAM_OPEN: 1} and cached.exists()
    line = real.look("web-cache", keep_for="P0D")
    assert line is not None and line.programs_open == ("SingletonLock",)
    with subprocess.Popen([sys.executable, "-c", "pass"]) as ended:
        ended.wait()
    lock.unlink()
    lock.symlink_to(f"{socket.gethostname()}-{ended.pid}")
    outcome, _ = real.clean("web-cache", keep_for="P0D")
    assert outcome.removed.count == 1, "what is left by a browser that crashed is no lock"


def test_a_profiles_own_lock_file_counts_while_it_is_locked(real: Bench, home: Path) -> None:
    profile = home / ".mozilla/firefox/a.default"
    make_file(profile / ".parentlock", 0)
    store = profile / "cookies.sqlite"
    subprocess.run(
        [sys.executable, "-c", "import sqlite3,sys; c=sqlite3.connect(sys.argv[1]);"
         "c.execute('CREATE TABLE moz_cookies (host, name, value, path, lastAccessed,"
         " creationTime)'); c.execute(\"INSERT INTO moz_cookies VALUES ('tide.example', 'a', 'b',"
         " '/', 1000000, 1000000)\"); c.commit()", str(store)],
        check=True,
    )  # fmt: skip
    with (profile / ".parentlock").open("r+") as lock:
        fcntl.lockf(lock, fcntl.LOCK_EX)
        outcome, _ = real.clean("web-site-data", standing=True, off=False, keep_for="P0D")
        assert reasons(outcome) == {Reason.PROGRAM_OPEN: 1}
    outcome, _ = real.clean("web-site-data", standing=True, off=False, keep_for="P0D")
    assert outcome.removed.count == 1


def test_what_is_opened_while_the_cleaning_goes_on_is_left(
    real: Bench, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(remover, "REFRESH", 0.0)
    for n in range(600):
        make_file(home / f".tmp/{n:03d}", days_old=9)
    opened: list = []

    def watch(category: str, items: int, size: int) -> None:
        if items and not opened:
            # some that lie in batches that have not begun
            left = os.listdir(home / ".tmp")
            opened.extend((home / ".tmp" / name).open() for name in random.sample(left, 30))

    outcome, _ = real.clean("user-temp", watch=watch)
    for one in opened:
        one.close()
    left = {path.name for path in (home / ".tmp").iterdir()}
    assert outcome.removed.count + len(left) == 600
    assert reasons(outcome).get(Reason.IN_USE, 0) == len(left) >= 1


def test_names_of_one_file_free_its_space_only_together(real: Bench, home: Path) -> None:
    both = make_file(home / ".tmp/both", 8000, days_old=9)
    os.link(both, home / ".tmp/both-again")
    elsewhere = make_file(home / ".tmp/elsewhere", 12_000, days_old=9)
    (home / "Documents").mkdir()
    os.link(elsewhere, home / "Documents/kept")
    size = both.stat().st_blocks * 512
    outcome, _ = real.clean("user-temp")
    assert (outcome.removed.count, outcome.removed.size) == (3, size)
    assert (outcome.linked.count, outcome.linked.size) == (
        1,
        (home / "Documents/kept").stat().st_blocks * 512,
    )


@pytest.mark.parametrize("how", ["read", "written", "mapped"])
def test_whether_another_process_holds_a_file_is_asked_of_the_file_itself(
    tmp_path: Path, how: str
) -> None:
    path = make_file(tmp_path / "held", 100)
    (tmp_path / "link").symlink_to(path)
    os.mkfifo(tmp_path / "pipe")
    ready, go_on = os.pipe(), os.pipe()
    if os.fork() == 0:
        handle = os.open(path, os.O_RDWR if how == "written" else os.O_RDONLY)
        if how == "mapped":
            kept = mmap.mmap(handle, 0, prot=mmap.PROT_READ)
            os.close(handle)
            assert kept
        os.write(ready[1], b"x")
        os.read(go_on[0], 1)
        os._exit(0)
    parent = os.open(tmp_path, os.O_RDONLY)
    os.read(ready[0], 1)
    try:
        of, is_open = files.open_looker(parent)("held")
        assert (of.st_ino, is_open) == (path.stat().st_ino, True)
    finally:
        os.write(go_on[1], b"x")
        os.wait()
    assert not files.open_looker(parent)("held")[1]
    for other in ("link", "pipe"):
        of, is_open = files.open_looker(parent)(other)
        assert (of.st_ino, is_open) == (os.lstat(tmp_path / other).st_ino, False)
    os.close(parent)
