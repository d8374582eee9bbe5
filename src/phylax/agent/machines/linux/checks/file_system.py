"""Is a file system as it should be?

One that is mounted is asked of the kernel: to read it from outside while it is written to invents
findings (e2fsck(8) on a mounted ext4 does so each time). One that is not mounted is read whole by
its own tool, which is allowed to write nothing. A journal that waits to be replayed is no finding.
"""

from __future__ import annotations

import errno
import os
import re
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime

from phylax.agent.machines.linux.kernel_files import names_in, number_in, text_in
from phylax.agent.machines.linux.mounts import Mount
from phylax.agent.machines.linux.tools import ToolOutput, run
from phylax.core.checks.findings import Finding, Severity

_HOURS = 8 * 3600.0
_BTRFS_COUNTS = {
    "write_errs": "writes that failed", "read_errs": "reads that failed",
    "flush_errs": "flushes that failed", "corruption_errs": "blocks with a wrong checksum",
    "generation_errs": "blocks that are older than they should be",
}  # fmt: skip
_MOST_LINES, _LONGEST = 3, 160


class CouldNotLookError(Exception):
    """Nobody could look, and why."""


def of_mounted(mount: Mount, where: str, sys: str = "/sys") -> list[Finding]:
    """What the kernel has noted of a mounted file system, which people know as `where`.
    CouldNotLookError where it notes nothing."""
    name = block_name(mount, sys)
    match mount.file_system:
        case "ext4" | "ext3" | "ext2":
            return _of_ext4(os.path.join(sys, "fs/ext4", name), where)
        case "btrfs":
            return _of_btrfs(os.path.join(sys, "fs/btrfs"), name, where)
        case other:
            raise CouldNotLookError(f"while it is mounted, nothing tells of {other}")


def _of_ext4(folder: str, where: str) -> list[Finding]:
    errors = number_in(folder, "errors_count")
    if errors is None:
        raise CouldNotLookError("the kernel keeps no count of its errors")
    if not errors:
        return []
    first, last = (number_in(folder, f"{which}_error_time") for which in ("first", "last"))
    function = text_in(folder, "last_error_func")
    said = [f"{errors} errors counted"]
    if first:
        said.append(f"first {_day(first)}")
    if last:
        said.append(f"last {_day(last)}" + (f" in {function}" if function else ""))
    what = "The file system has errors; it has to be checked while it is not in use"
    return [Finding(severity=Severity.WARNING, what=what, where=where, evidence="; ".join(said))]


def _of_btrfs(folder: str, device: str, where: str) -> list[Finding]:
    for volume in names_in(folder):
        if device not in names_in(os.path.join(folder, volume, "devices")):
            continue
        of_devices = os.path.join(folder, volume, "devinfo")
        counts: dict[str, int] = {}
        for number in names_in(of_devices):
            for line in text_in(os.path.join(of_devices, number), "error_stats").splitlines():
                name, _, value = line.partition(" ")
                if name in _BTRFS_COUNTS and value.strip().isdigit():
                    counts[name] = counts.get(name, 0) + int(value)
        if not counts:
            break
        return [
            Finding(
                severity=Severity.WARNING,
                what=f"The file system has counted {_BTRFS_COUNTS[name]}",
                where=where,
                evidence=f"{name} {number}",
            )
            for name, number in counts.items()
            if number
        ]
    raise CouldNotLookError("the kernel keeps no count of its errors")


def block_name(mount: Mount, sys: str = "/sys") -> str:
    """What the kernel calls the device that a volume is on."""
    if mount.source.startswith("/dev/"):
        return os.path.basename(os.path.realpath(mount.source))
    number = f"{os.major(mount.device)}:{os.minor(mount.device)}"
    return os.path.basename(os.path.realpath(os.path.join(sys, "dev/block", number)))


def of_unmounted(
    device: str, file_system: str, breathe: Callable[[], None] = lambda: None
) -> list[Finding]:
    """What reading a file system that is not mounted finds; nothing is written to it.

    CouldNotLookError where it is in use, waits for its journal, or its tool is not there.
    """
    match file_system:
        case "ext4" | "ext3" | "ext2":
            command = ["e2fsck", "-fn", device]
            head = _run(["dumpe2fs", "-h", device], seconds=60)
            if re.search(r"^Filesystem features:.*\bneeds_recovery\b", head.text, re.MULTILINE):
                raise CouldNotLookError("its journal has to be replayed first: mount it once")
        case "xfs":
            command = ["xfs_repair", "-n", device]
        case "btrfs":
            command = ["btrfs", "check", "--readonly", device]
        case "vfat":
            command = ["fsck.vfat", "-n", device]
        case other:
            raise CouldNotLookError(f"there is nothing here that checks {other}")
    with _kept_unmounted(device):
        said = _run(command, seconds=_HOURS, breathe=breathe)
    return _judged(file_system, device, said)


def _judged(file_system: str, device: str, said: ToolOutput) -> list[Finding]:
    """What a tool's end means; what it says of itself is evidence, never the judge."""
    if "valuable metadata changes in a log" in said.text:
        raise CouldNotLookError("its journal has to be replayed first: mount it once")
    # e2fsck's end is a sum: 4 is for errors that are there, whatever else it met on the way
    is_ext = file_system in ("ext4", "ext3", "ext2")
    is_broken = 0 < said.code < 128 and bool(said.code & 4) if is_ext else said.code == 1
    if said.code == 0:
        return []
    if not is_broken:
        raise CouldNotLookError(f"its tool ended with {said.code}: {_lines(said.text)}"[:400])
    what = "The file system is damaged; repair it while it is not in use, with a backup at hand"
    evidence = _lines(said.text)
    return [Finding(severity=Severity.WARNING, what=what, where=device, evidence=evidence)]


@contextmanager
def _kept_unmounted(device: str) -> Iterator[None]:
    """Nobody can mount it meanwhile. CouldNotLookError where somebody has it."""
    try:
        is_block = stat.S_ISBLK(os.stat(device).st_mode)
        flags = os.O_RDONLY | os.O_CLOEXEC | (os.O_EXCL if is_block else 0)
        handle = os.open(device, flags)
    except OSError as failure:
        in_use = failure.errno == errno.EBUSY
        why = "it is in use" if in_use else str(failure.strerror)
        raise CouldNotLookError(why) from None
    try:
        yield
    finally:
        os.close(handle)


def _run(
    command: list[str], *, seconds: float, breathe: Callable[[], None] = lambda: None
) -> ToolOutput:
    tool = command[0]
    places = (os.path.join(folder, tool) for folder in ("/usr/sbin", "/sbin", "/usr/bin", "/bin"))
    path = next(filter(os.path.exists, places), None)
    if path is None:
        raise CouldNotLookError(f"{tool} is not installed")
    try:
        return run([path, *command[1:]], seconds=seconds, breathe=breathe)
    except OSError as failure:
        raise CouldNotLookError(f"{tool}: {failure.strerror}") from None


def _lines(text: str) -> str:
    """The first lines that say something, as evidence."""
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    # the tools begin with their own name and with the names of their passes
    telling = [
        line for line in lines if not re.match(r"(e2fsck|Pass|Phase|Opening|Checking)\b", line)
    ]
    return "; ".join(line[:_LONGEST] for line in (telling or lines)[:_MOST_LINES])


def _day(seconds: int) -> str:
    return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%d}"
