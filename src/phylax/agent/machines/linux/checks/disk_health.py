"""What disks have counted of themselves, asked through smartctl(8)."""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Iterable, Mapping
from typing import Any, Final

from phylax.agent.machines.linux.checks.file_system import block_name
from phylax.agent.machines.linux.kernel_files import names_in
from phylax.agent.machines.linux.mounts import Mount
from phylax.agent.machines.linux.tools import run
from phylax.core.checks.disk_health import Counters, NoCountersError, counters

SMARTCTL: Final = "/usr/sbin/smartctl"
_SECONDS = 30.0


def disks(mounts: Iterable[Mount], sys: str = "/sys") -> list[str]:
    """Names of the disks that volumes are on, each once."""
    names: dict[str, None] = {}
    for mount in mounts:
        name = block_name(mount, sys)
        for disk in disks_below(os.path.join(sys, "class/block"), name):
            names[disk] = None
    return list(names)


def disks_below(folder: str, name: str) -> list[str]:
    """The whole disks that a block device is on: through partitions, encryption and joined ones."""
    at = os.path.join(folder, name)
    below = names_in(os.path.join(at, "slaves"))
    if below:
        return [disk for inner in below for disk in disks_below(folder, inner)]
    if os.path.exists(os.path.join(at, "partition")):
        return [os.path.basename(os.path.dirname(os.path.realpath(at)))]
    # a loop device or one in memory is a file, not a disk
    return [name] if os.path.exists(os.path.join(at, "device")) else []


def counted(disk: str, tool: str = SMARTCTL) -> Counters:
    """What a disk has counted. OSError or NoCountersError where it does not say."""
    return counters(asked(disk, tool))


def asked(disk: str, tool: str = SMARTCTL) -> Mapping[str, Any]:
    """What a disk says of itself, in smartctl's JSON. OSError or NoCountersError where that cannot
    be read."""
    if not os.path.exists(tool):
        raise FileNotFoundError(errno.ENOENT, "is not installed", os.path.basename(tool))
    said = run([tool, "--json=c", "-a", f"/dev/{disk}"], seconds=_SECONDS)
    try:
        spoken: Mapping[str, Any] = json.loads(said.text)
    except (ValueError, RecursionError):
        raise NoCountersError(
            f"its tool says nothing that can be read, ended with {said.code}"
        ) from None
    if not isinstance(spoken, dict):
        raise NoCountersError("its tool says nothing that can be read")
    return spoken
