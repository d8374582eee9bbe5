"""File systems that are not in use: each is read whole by its own tool."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Final

from phylax.agent.machines.linux.checks import file_system
from phylax.agent.machines.linux.checks.file_system import CouldNotLookError
from phylax.agent.machines.linux.kernel_files import names_in, text_in
from phylax.agent.machines.linux.tools import run
from phylax.agent.machines.upkeep import Watch
from phylax.core.checks.findings import Checked, could_not_look, looked

BLKID: Final = "/usr/sbin/blkid"
_CHECKED = ("ext4", "ext3", "ext2", "xfs", "btrfs", "vfat")


def not_in_use(sys: str = "/sys", proc: str = "/proc") -> list[tuple[str, str]]:
    """(device, file system) of what has one that is not mounted."""
    block = os.path.join(sys, "class/block")
    taken = {
        os.path.realpath(fields[0])
        for name in ("mounts", "swaps")
        for line in text_in(
            os.path.join(proc, "self" if name == "mounts" else ""), name
        ).splitlines()
        if (fields := line.split())
    }
    listed = []
    for name in names_in(block):
        device = f"/dev/{name}"
        at = os.path.join(block, name)
        is_empty = text_in(at, "size") in ("", "0")
        if is_empty or device in taken or names_in(os.path.join(at, "holders")):
            continue
        if text_in(at, "removable") == "1" and text_in(at, "ro") == "1":
            continue
        try:
            said = run([BLKID, "-p", "-o", "value", "-s", "TYPE", device], seconds=30)
        except OSError:
            continue
        if said.code == 0 and said.text.strip() in _CHECKED:
            listed.append((device, said.text.strip()))
    return listed


def check_unmounted(watch: Watch, sys: str = "/sys") -> Iterator[Checked]:
    """Each of them; a bad one costs only itself."""
    volumes = not_in_use(sys)
    for number, (device, kind) in enumerate(volumes):
        watch(number, len(volumes))
        started = datetime.now(UTC)
        try:
            findings = file_system.of_unmounted(device, kind, watch)
        except CouldNotLookError as why:
            yield could_not_look("file-system", device, started, str(why))
        else:
            yield looked("file-system", device, started, findings, mode="all")
