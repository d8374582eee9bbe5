"""A volume to measure on: a real file system in memory, so that nobody else's disk is measured."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_SIZE = 4 * 2**30
_MEMORY = Path("/dev/shm")
_MAKE = next((p for p in ("/sbin/mkfs.ext4", "/usr/sbin/mkfs.ext4") if os.path.exists(p)), "")


@contextmanager
def volume() -> Iterator[Path]:
    """An ext4 image in memory, mounted; without the rights to mount one, a temporary folder."""
    if os.geteuid() != 0 or not _MAKE or not _MEMORY.is_dir():
        print("  (not on an ext4 image in memory: that needs root)")
        with tempfile.TemporaryDirectory() as folder:
            yield Path(folder)
        return
    with tempfile.TemporaryDirectory() as folder, tempfile.NamedTemporaryFile(dir=_MEMORY) as image:
        image.truncate(_SIZE)
        subprocess.run([_MAKE, "-q", "-N", "600000", image.name], check=True)
        subprocess.run(["mount", "-o", "loop", image.name, folder], check=True)
        try:
            yield Path(folder)
        finally:
            subprocess.run(["umount", "--lazy", folder], check=True)
