"""What kind of disk a volume is on, and in how many pieces its files lie.

The facts are the kernel's (sysfs) and the disk's own (smartctl(8)); pieces are counted by the
FIEMAP ioctl of the kernel, which reads no content.
"""

from __future__ import annotations

import fcntl
import os
import stat
import struct
from typing import Final

from phylax.agent import files
from phylax.agent.files.walk import walk
from phylax.agent.machines.linux.checks.disk_health import SMARTCTL, asked, disks_below
from phylax.agent.machines.linux.checks.file_system import block_name
from phylax.agent.machines.linux.kernel_files import names_in, number_in, open_quietly, text_in
from phylax.agent.machines.linux.mounts import Mount
from phylax.agent.machines.upkeep import Watch
from phylax.core.checks.disk_health import NoCountersError, counters
from phylax.core.inventory.disks import DiskFacts, VolumeOnDisk, judged

MOST_FILES: Final = 20_000
_FIEMAP = 0xC020660B
_WHOLE = 2**64 - 1
_FLASH = ("nvme", "mmcblk")


def facts_of(mount: Mount, sys: str = "/sys", tool: str = SMARTCTL) -> DiskFacts:
    """What is known of the disk, or of all the disks, below a volume; where they differ, nothing
    is."""
    name = block_name(mount, sys)
    block = os.path.join(sys, "class/block")
    disks = disks_below(block, name) or [name]
    return _joined([_facts(block, disk, tool) for disk in disks])


def _joined(known: list[DiskFacts]) -> DiskFacts:
    first = known[0]
    if any((fact.spins, fact.gives_back) != (first.spins, first.gives_back) for fact in known):
        return DiskFacts(zoned=any(fact.zoned for fact in known))
    return first.model_copy(
        update={
            "flash_bus": all(fact.flash_bus for fact in known),
            "zoned": any(fact.zoned for fact in known),
            "turns": first.turns if all(f.turns == first.turns for f in known) else None,
            "pending": max((fact.pending or 0 for fact in known), default=0),
        }
    )


def _facts(block: str, disk: str, tool: str) -> DiskFacts:
    queue = os.path.join(block, disk, "queue")
    spins, discards = number_in(queue, "rotational"), number_in(queue, "discard_max_bytes")
    zoned = text_in(queue, "zoned")
    turns, pending = _said_by_disk(disk, tool)
    return DiskFacts(
        spins=None if spins is None else bool(spins),
        gives_back=None if discards is None else discards > 0,
        turns=turns,
        flash_bus=disk.startswith(_FLASH),
        zoned=zoned not in ("", "none"),
        pending=pending,
    )


def _said_by_disk(disk: str, tool: str) -> tuple[int | None, int | None]:
    """(turns a minute, pending sectors), each where the disk says."""
    if not os.path.exists(tool):
        return None, None
    try:
        said = asked(disk, tool)
    except (OSError, NoCountersError):
        return None, None
    rate = said.get("rotation_rate")
    turns = rate if isinstance(rate, int) and 0 <= rate < 100_000 else None
    try:
        return turns, counters(said).get("pending sectors")
    except NoCountersError:
        return turns, None


def lie_of(
    mount: Mount, shown: str, watch: Watch, sys: str = "/sys", tool: str = SMARTCTL
) -> VolumeOnDisk:
    """A volume, its disk, and in how many pieces its files lie."""
    facts, copies = facts_of(mount, sys, tool), copies_what_it_rewrites(mount, sys)
    looked_at, pieces = pieces_on(mount.path, watch)
    return VolumeOnDisk(
        volume=shown,
        file_system=mount.file_system,
        disk=block_name(mount, sys),
        facts=facts,
        snapshots=copies,
        files=looked_at,
        pieces=pieces,
        judgement=judged(facts, mount.file_system, snapshots=copies),
    )


def copies_what_it_rewrites(mount: Mount, sys: str = "/sys") -> bool:
    """Whether snapshots lie below a volume: of its own kind, or of the device that it is on."""
    if mount.file_system in ("btrfs", "zfs", "bcachefs"):
        return True
    block = os.path.join(sys, "class/block")
    name = block_name(mount, sys)
    beside = names_in(os.path.join(block, name, "holders"))
    below = [b for n in names_in(os.path.join(block, name, "slaves"))
             for b in names_in(os.path.join(block, n, "holders"))]  # fmt: skip
    names = [text_in(os.path.join(block, other, "dm"), "name") for other in (*beside, *below)]
    return any(named.endswith(("-cow", "-real")) for named in names)


def pieces_on(top: str, watch: Watch, most: int = MOST_FILES) -> tuple[int, int]:
    """(files looked at, pieces that they lie in); the first so many that have content."""
    looked_at = pieces = 0
    root = files.open_top(top)
    try:
        for folder in walk(root, lambda path, why: None):
            watch()
            for name, about in folder.files:
                if not stat.S_ISREG(about.st_mode) or not about.st_blocks:
                    continue
                counted = _pieces(name, folder.handle)
                if counted:
                    looked_at += 1
                    pieces += counted
                if looked_at >= most:
                    return looked_at, pieces
                if looked_at % 200 == 0:
                    watch(looked_at, None)
    finally:
        files.close(root)
    return looked_at, pieces


def _pieces(name: str, parent: int) -> int:
    """In how many pieces a file lies; 0: nobody can say."""
    try:
        handle = open_quietly(name, parent)
    except OSError:
        return 0
    try:
        request = bytearray(struct.pack("=QQLLLL", 0, _WHOLE, 0, 0, 0, 0))
        fcntl.ioctl(handle, _FIEMAP, request)
        return int(struct.unpack("=QQLLLL", request)[3])
    except OSError:
        return 0
    finally:
        os.close(handle)
