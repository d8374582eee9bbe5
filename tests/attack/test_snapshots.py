"""A writable snapshot inside a place is never taken for as old as what it was made from."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from engine import Bench, NothingRuns
from helpers import SBIN, make_file

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")


def test_a_snapshot_in_a_cache_stays(tmp_path: Path) -> None:
    image, volume = tmp_path / "volume.img", tmp_path / "volume"
    volume.mkdir()
    with image.open("wb") as file:
        file.truncate(256 * 2**20)
    subprocess.run(["mkfs.btrfs", "-q", str(image)], check=True, env=SBIN)
    subprocess.run(["mount", "-o", "loop", str(image), str(volume)], check=True)
    try:
        home = volume / "anna"
        (home / ".tmp").mkdir(parents=True)
        subprocess.run(
            ["btrfs", "-q", "subvolume", "create", str(volume / "work")], check=True, env=SBIN
        )
        make_file(volume / "work/letter", 9000, days_old=9)
        make_file(home / ".tmp/plain/old", 9000, days_old=9)
        subprocess.run(
            ["btrfs", "-q", "subvolume", "snapshot", str(volume / "work"), str(home / ".tmp/kept")],
            check=True, env=SBIN,
        )  # fmt: skip
        bench = Bench(NothingRuns([str(home)]), tmp_path)
        outcome, _ = bench.clean("user-temp", keep_for="P0D")
        assert (home / ".tmp/kept/letter").exists()
        assert outcome.removed.count == 1 and outcome.unread_count == 1
    finally:
        subprocess.run(["umount", "--lazy", str(volume)], check=True)
