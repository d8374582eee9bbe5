"""A small real volume, where this may be made."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import pytest

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


@pytest.fixture
def make_old(volume: Path, tmp_path: Path) -> Callable[[Iterable[Path], float], None]:
    """Makes things on the volume truly old, change time and all, which no program may: by writing
    into the image while it is not mounted."""

    def write(paths: Iterable[Path], days: float) -> None:
        second = int(time.time() - days * 86400)
        numbers = [path.lstat().st_ino for path in paths]
        script = tmp_path / "times"
        script.write_text(
            "".join(
                f"set_inode_field <{number}> {field} @{second}\n"
                for number in numbers
                for field in ("ctime", "mtime", "crtime")
            )
        )
        image = tmp_path / "volume.img"
        subprocess.run(["umount", str(volume)], check=True)
        debugfs = ["debugfs", "-w", "-f", str(script), str(image)]
        subprocess.run(debugfs, check=True, capture_output=True)
        subprocess.run(["mount", "-o", "loop", str(image), str(volume)], check=True)

    return write
