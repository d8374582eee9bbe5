"""A volume with people, and workers for them."""

from __future__ import annotations

import os
import stat
import subprocess
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import pytest

from helpers import SBIN, make_old
from people import ANNA, PeopleDesk, mounted
from phylax.agent.workers.supervisor import ForkServer


@pytest.fixture(autouse=True)
def _needs_root(tmp_path: Path) -> None:
    if os.geteuid() != 0:
        pytest.skip("takes other people's rights, so needs root's")
    # the people of the volume must be able to reach it
    for folder in (tmp_path, *tmp_path.parents):
        if folder.stat().st_uid == 0 and len(folder.parts) > 2:
            folder.chmod(folder.stat().st_mode | stat.S_IXOTH | stat.S_IXGRP)


@pytest.fixture(scope="session")
def fork_server() -> Iterator[ForkServer]:
    fork_server = ForkServer()
    yield fork_server
    fork_server.close()


@pytest.fixture
def desk(tmp_path: Path, fork_server: ForkServer) -> Iterator[PeopleDesk]:
    with mounted("tmpfs", tmp_path / "volume", "-o", "size=64m,mode=755") as volume:
        yield PeopleDesk(volume, tmp_path / "own", fork_server)


@pytest.fixture
def home(desk: PeopleDesk) -> Path:
    return desk.home("anna", ANNA)


@pytest.fixture
def real_volume(tmp_path: Path) -> Iterator[Path]:
    """A mounted ext4 image of 48 MiB."""
    image, mount = tmp_path / "volume.img", tmp_path / "real"
    with image.open("wb") as file:
        file.truncate(48 * 2**20)
    mount.mkdir()
    subprocess.run(["mkfs.ext4", "-q", "-m", "0", str(image)], check=True, env=SBIN)
    subprocess.run(["mount", "-o", "loop", str(image), str(mount)], check=True)
    yield mount
    subprocess.run(["umount", "--lazy", str(mount)], check=True)


@pytest.fixture
def age(real_volume: Path, tmp_path: Path) -> Callable[[Iterable[Path], float], None]:
    return lambda paths, days: make_old(tmp_path / "volume.img", real_volume, paths, days)
