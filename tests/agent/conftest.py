"""A small real volume, where this may be made."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import pytest

from helpers import make_old

MAKE_EXT4 = "mkfs.ext4" if os.path.exists("/sbin/mkfs.ext4") else "/usr/sbin/mkfs.ext4"


@pytest.fixture
def volume(tmp_path: Path) -> Iterator[Path]:
    """A mounted ext4 image of 48 MiB, with nothing in it."""
    if os.geteuid() != 0:
        pytest.skip("mounting an image needs root")
    image, mount = tmp_path / "volume.img", tmp_path / "volume"
    with image.open("wb") as file:
        file.truncate(48 * 2**20)
    mount.mkdir()
    subprocess.run([MAKE_EXT4, "-q", "-m", "0", str(image)], check=True)
    subprocess.run(["mount", "-o", "loop", str(image), str(mount)], check=True)
    yield mount
    subprocess.run(["umount", "--lazy", str(mount)], check=True)


@pytest.fixture(name="make_old")
def _make_old(volume: Path, tmp_path: Path) -> Callable[[Iterable[Path], float], None]:
    return lambda paths, days: make_old(tmp_path / "volume.img", volume, paths, days)
