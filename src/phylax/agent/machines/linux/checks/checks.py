"""What a check of a Linux machine comes to, volume by volume and disk by disk."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

from phylax.agent.machines.linux.checks import disk_health, file_system
from phylax.agent.machines.linux.checks.file_system import CouldNotLookError
from phylax.agent.machines.linux.mounts import Mount
from phylax.core.checks.disk_health import NoCountersError, findings
from phylax.core.checks.findings import Checked, could_not_look, looked


def file_systems(mounts: Sequence[tuple[Mount, str]], sys: str = "/sys") -> Iterator[Checked]:
    """Each volume, with the name that people know it by; a bad one costs only itself."""
    for mount, name in mounts:
        started = datetime.now(UTC)
        try:
            noted = file_system.of_mounted(mount, name, sys)
        except CouldNotLookError as why:
            yield could_not_look("file-system", name, started, str(why))
        else:
            yield looked("file-system", name, started, noted)


def disks(
    mounts: Sequence[Mount], sys: str = "/sys", tool: str = disk_health.SMARTCTL
) -> Iterator[Checked]:
    """Each disk that volumes are on, by what it has counted."""
    for disk in disk_health.disks(mounts, sys):
        started = datetime.now(UTC)
        try:
            counted = disk_health.counted(disk, tool)
        except (OSError, NoCountersError) as failure:
            why = failure.strerror if isinstance(failure, OSError) else str(failure)
            yield could_not_look("disk-health", disk, started, why or "cannot be asked")
        else:
            yield looked("disk-health", disk, started, findings(counted, disk), counted)
