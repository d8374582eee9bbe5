"""Having a file system repaired at the next start: the mark is set now, the work is the system's.

ext4 is checked by its start where its fstab says so, when it was mounted more often than it may
without a check. The mark that tune2fs(8) has for it is lost when a mounted volume is unmounted; the
count is not, and goes back to nothing by the check itself.
"""

from __future__ import annotations

import os
import re
from typing import Final

from phylax.agent.machines.linux.checks.disk_health import SMARTCTL, counted, disks_below
from phylax.agent.machines.linux.checks.file_system import block_name
from phylax.agent.machines.linux.mounts import Mount
from phylax.agent.machines.linux.tools import ask
from phylax.core.actions import ActEnd, ActionPart
from phylax.core.checks import disk_health
from phylax.core.checks.disk_health import NoCountersError
from phylax.core.checks.findings import Severity

TUNE2FS: Final = "/usr/sbin/tune2fs"
DUMPE2FS: Final = "/usr/sbin/dumpe2fs"
_MOST_MOUNTS = 15_999
"""So many mounts without a check are allowed once it is done: never again by the count alone."""


def schedule_repair(
    mount: Mount | None, shown: str, fstab: str = "/etc/fstab", sys: str = "/sys",
    tool: str = SMARTCTL,
) -> ActionPart:  # fmt: skip
    """Mark a volume to be checked and repaired when the machine starts next; once."""
    if mount is None:
        return _refused(shown, "there is no such volume here")
    if mount.file_system not in ("ext4", "ext3", "ext2"):
        return _refused(shown, f"{mount.file_system} is repaired by hand, while it is not in use")
    name = block_name(mount, sys)
    if why := _why_failing(os.path.join(sys, "class/block"), name, tool):
        return _refused(shown, why)
    if not _is_checked_at_start(mount.path, fstab):
        return _refused(shown, f"{fstab} says that it is never checked at a start: do it by hand")
    device = f"/dev/{name}"
    counts = _counts(device)
    if _is_due(counts):
        return ActionPart(
            target=shown, end=ActEnd.NOTHING, why="it waits for the next start already"
        )
    most = counts["Maximum mount count"]
    allowed = most if 0 < most <= _MOST_MOUNTS else _MOST_MOUNTS
    ask([TUNE2FS, "-c", str(allowed), "-C", str(allowed + 1), device], seconds=60)
    if not _is_due(_counts(device)):
        return ActionPart(target=shown, end=ActEnd.FAILED, why="the mark did not stay")
    return ActionPart(
        target=shown, end=ActEnd.DONE, after="repaired at the next start", needs_restart=True
    )


def _why_failing(block: str, name: str, tool: str) -> str:
    """Why a disk is not to be written to; empty where nothing speaks against it."""
    for disk in disks_below(block, name):
        try:
            findings = disk_health.findings(counted(disk, tool), disk)
        except (OSError, NoCountersError):
            continue
        for finding in findings:
            if finding.severity is Severity.FAILING:
                return f"{disk} is failing: save the data first, then replace it"
    return ""


def _is_checked_at_start(path: str, fstab: str) -> bool:
    """By the sixth field of fstab(5)."""
    try:
        with open(fstab, encoding="utf-8", errors="replace") as lines:
            for line in lines:
                fields = line.split()
                if len(fields) >= 4 and not line.lstrip().startswith("#") and fields[1] == path:
                    return len(fields) >= 6 and fields[5] not in ("", "0")
    except OSError:
        pass
    return False


def _counts(device: str) -> dict[str, int]:
    said = ask([DUMPE2FS, "-h", device], seconds=60)
    rows = re.findall(r"^(Mount count|Maximum mount count):\s+(-?\d+)$", said, re.MULTILINE)
    counts = {name: int(value) for name, value in rows}
    return {"Mount count": 0, "Maximum mount count": -1} | counts


def _is_due(counts: dict[str, int]) -> bool:
    most = counts["Maximum mount count"]
    return 0 < most <= counts["Mount count"]


def _refused(shown: str, why: str) -> ActionPart:
    return ActionPart(target=shown, end=ActEnd.REFUSED, why=why)
