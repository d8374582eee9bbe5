"""Real file systems on images of their own: fifty that are well and busy, fifty broken in different
ways; each by what the kernel or its own tool says."""

from __future__ import annotations

import os
import random
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from helpers import wait_until
from phylax.agent.machines.linux.checks.file_system import (
    CouldNotLookError,
    block_name,
    of_mounted,
    of_unmounted,
)
from phylax.agent.machines.linux.mounts import Mount, mount_table
from phylax.core.checks.findings import Severity

PATH = {"PATH": "/usr/sbin:/sbin:/usr/bin:/bin", "MKE2FS_SYNC": "0"}
SIZES = {"ext4": 16, "xfs": 300, "btrfs": 120, "vfat": 16}
"""MiB that each needs at least."""
MAKE = {"ext4": ["mkfs.ext4", "-q", "-F"], "xfs": ["mkfs.xfs", "-q", "-f"],
        "btrfs": ["mkfs.btrfs", "-q", "-f"], "vfat": ["mkfs.vfat"]}  # fmt: skip


def run(*command: str, check: bool = True) -> str:
    said = subprocess.run(command, env=PATH, check=check, capture_output=True, text=True)
    return said.stdout


def image(folder: Path, kind: str, name: str = "image") -> Path:
    path = folder / f"{name}.{kind}"
    with open(path, "wb") as file:
        file.truncate(SIZES[kind] * 2**20)
    run(*MAKE[kind], str(path))
    return path


class Mounted:
    """An image, mounted."""

    def __init__(self, path: Path, at: Path) -> None:
        at.mkdir(exist_ok=True)
        self.at = at
        run("mount", "-o", "loop", str(path), str(at))

    def __enter__(self) -> Mount:
        return next(mount for mount in mount_table() if mount.path == str(self.at))

    def __exit__(self, *args: object) -> None:
        run("umount", str(self.at))


def fill(folder: Path, chance: random.Random, files: int = 12) -> None:
    for number in range(files):
        inner = folder / f"d{number % 3}"
        inner.mkdir(exist_ok=True)
        (inner / f"f{number}").write_bytes(chance.randbytes(chance.randint(1, 40_000)))


def test_fifty_that_are_well_and_written_to_have_no_findings(tmp_path: Path) -> None:
    chance = random.Random(20)
    path = image(tmp_path, "ext4")
    for _ in range(50):
        with Mounted(path, tmp_path / "at") as mount:
            fill(tmp_path / "at", chance, 3)
            busy = (tmp_path / "at/busy").open("wb")
            busy.write(chance.randbytes(100_000))
            assert of_mounted(mount, "/at") == []
            busy.close()
        assert of_unmounted(str(path), "ext4") == []


@pytest.mark.parametrize("kind", ["xfs", "btrfs", "vfat"])
def test_others_that_are_well_have_no_findings(tmp_path: Path, kind: str) -> None:
    path = image(tmp_path, kind)
    if kind != "vfat":  # not every kernel has it
        try:
            with Mounted(path, tmp_path / "at"):
                fill(tmp_path / "at", random.Random(3))
        except subprocess.CalledProcessError:
            pass
    assert of_unmounted(str(path), kind) == []


def inode(chance: random.Random, field: str, value: str) -> list[str]:
    return ["-R", f"set_inode_field <{chance.randint(12, 20)}> {field} {value}"]


BREAKS: list[Callable[[random.Random], list[str]]] = [
    lambda chance: inode(chance, "mode", "0"),
    lambda chance: inode(chance, "links_count", str(chance.randint(7, 90))),
    lambda chance: inode(chance, "blocks", str(chance.randint(1000, 9000))),
    lambda chance: inode(chance, "block[0]", "0"),
    lambda chance: ["-R", f"clri <{chance.randint(12, 20)}>"],
    lambda chance: ["-R", f"freei <{chance.randint(12, 20)}>"],
    lambda chance: ["-R", f"freeb {chance.randint(1, 60)} 20"],
    lambda chance: inode(chance, "file_acl", str(chance.randint(70, 90))),
    lambda chance: ["-R", "unlink d0/f0"],
    lambda chance: ["-R", f"link <{chance.randint(12, 20)}> d1/twice"],
]


@pytest.mark.parametrize("seed", range(50))
def test_fifty_broken_in_different_ways_are_all_found(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    path = image(tmp_path, "ext4")
    with Mounted(path, tmp_path / "at"):
        fill(tmp_path / "at", chance)
    run("debugfs", "-w", *BREAKS[seed % len(BREAKS)](chance), str(path))
    content = path.read_bytes()
    (finding,) = of_unmounted(str(path), "ext4")
    assert finding.severity is Severity.WARNING and finding.evidence
    assert path.read_bytes() == content, "looking writes nothing"


def test_other_broken_ones_are_found(tmp_path: Path) -> None:
    xfs = image(tmp_path, "xfs")
    root = run("xfs_db", "-c", "sb 0", "-c", "print rootino", str(xfs)).split()[-1]
    run("xfs_db", "-x", "-c", f"inode {root}", "-c", "write core.mode 0", str(xfs))
    assert of_unmounted(str(xfs), "xfs")
    vfat = image(tmp_path, "vfat")
    with open(vfat, "r+b") as file:
        file.seek(2048)
        file.write(os.urandom(600))
    assert of_unmounted(str(vfat), "vfat")
    btrfs = image(tmp_path, "btrfs")
    with open(btrfs, "r+b") as file:
        for at in range(0, SIZES["btrfs"] * 2**20, 4096):
            file.seek(at)
            block = file.read(4096)
            # every tree block names the file system; the copies of the heads are left
            if block[:4096].count(b"\0") < 4096 and at not in (65536, 67108864):
                file.seek(at)
                file.write(bytes(len(block)))
    assert of_unmounted(str(btrfs), "btrfs")


def test_what_the_kernel_has_noted_is_found_while_it_is_mounted(tmp_path: Path) -> None:
    path = image(tmp_path, "ext4")
    with Mounted(path, tmp_path / "at") as mount:
        trigger = Path("/sys/fs/ext4", block_name(mount), "trigger_fs_error")
        trigger.write_text("a test's own")
        # the kernel counts it in a work of its own
        wait_until(lambda: bool(of_mounted(mount, "/at")), "counted")
        (finding,) = of_mounted(mount, "/at")
        assert finding.where == "/at" and "errors counted" in finding.evidence
        assert finding.evidence.startswith("1 ") and "last 20" in finding.evidence


def test_a_journal_that_waits_is_no_finding(tmp_path: Path) -> None:
    """Switched off in the middle: it is well, and its tool would invent findings."""
    path = image(tmp_path, "ext4")
    with Mounted(path, tmp_path / "at"):
        fill(tmp_path / "at", random.Random(5))
        os.sync()
        (tmp_path / "at/late").write_bytes(b"x" * 50_000)
        copy = tmp_path / "copy"
        copy.write_bytes(path.read_bytes())
    with pytest.raises(CouldNotLookError, match="journal"):
        of_unmounted(str(copy), "ext4")


@pytest.mark.parametrize("kind", ["ntfs", "", "ext4; rm", "zfs"])
def test_what_nothing_here_checks_says_so(tmp_path: Path, kind: str) -> None:
    (tmp_path / "image").write_bytes(b"")
    with pytest.raises(CouldNotLookError, match="nothing here that checks"):
        of_unmounted(str(tmp_path / "image"), kind)


def test_a_file_that_is_no_file_system_could_not_be_looked_at(tmp_path: Path) -> None:
    (tmp_path / "image").write_bytes(os.urandom(100_000))
    with pytest.raises(CouldNotLookError, match="ended with 8"):
        of_unmounted(str(tmp_path / "image"), "ext4")
    with pytest.raises(CouldNotLookError, match="No such file"):
        of_unmounted(str(tmp_path / "none"), "vfat")


def test_a_device_in_use_is_not_read_from_outside(tmp_path: Path) -> None:
    path = image(tmp_path, "ext4")
    in_use = pytest.raises(CouldNotLookError, match=r"in use|journal")
    with Mounted(path, tmp_path / "at") as mount, in_use:
        of_unmounted(mount.source, "ext4")


def test_calling_off_ends_the_tool_and_all_that_it_started(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from phylax.agent.machines.linux import tools

    class Called(Exception):
        pass

    def off() -> None:
        raise Called

    monkeypatch.setattr(tools, "_BREATHE", 0.05)
    script = tmp_path / "slow"
    script.write_text(f"#!/bin/sh\nsleep 4711 &\necho $! > {tmp_path}/child\nwait\n")
    script.chmod(0o755)
    with pytest.raises(Called):
        tools.run([str(script)], seconds=60, breathe=off)
    child = Path(tmp_path, "child").read_text().strip()
    for _ in range(200):
        if not Path("/proc", child).exists() or "Z" in Path("/proc", child, "stat").read_text():
            return
        subprocess.run(["sleep", "0.05"], check=True)
    raise AssertionError("what the tool started goes on")


@pytest.mark.parametrize(
    ("says", "why"),
    [
        ("yes | head -c 2000000", "more than"),
        ("sleep 600", "does not answer"),
        ("exit 3", "ended with 3"),
        ("kill -9 $$", "ended with -9"),
    ],
)
def test_a_hostile_tool_is_bounded(tmp_path: Path, says: str, why: str) -> None:
    from phylax.agent.machines.linux.tools import ask

    script = tmp_path / "tool"
    script.write_text(f"#!/bin/sh\n{says}\n")
    script.chmod(0o755)
    with pytest.raises(OSError, match=why):
        ask([str(script)], seconds=2)
