"""Arranging and repairing real file systems on loop devices, whose kind the test sets as the kernel
lets it; what the tools say they did is measured."""

from __future__ import annotations

import fcntl
import os
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import pytest

from phylax.agent.machines.linux.actions.arranging import arrange
from phylax.agent.machines.linux.actions.repairing import schedule_repair
from phylax.agent.machines.linux.checks.file_system import block_name
from phylax.agent.machines.linux.checks.fragmentation import facts_of, lie_of, pieces_on
from phylax.agent.machines.linux.mounts import Mount, mount_table
from phylax.core.actions import ActEnd, ActionPart, ArrangeDisks
from phylax.core.inventory.disks import Treatment

LOOP_CTL_ADD, LOOP_CTL_REMOVE = 0x4C80, 0x4C81
PATH = {"PATH": "/usr/sbin:/sbin:/usr/bin:/bin"}


def watch(done: int = 0, of: int | None = None) -> None:
    """Nobody ends it."""


def run(*command: str) -> str:
    said = subprocess.run(command, env=PATH, check=True, capture_output=True, text=True)
    return said.stdout


class LoopDevice:
    """A loop device of the test's own: what is set of one outlives the file that it was for."""

    def __init__(self, image: Path) -> None:
        for number in range(100 + os.getpid() % 1000, 2000):
            self.path = f"/dev/loop{number}"
            try:
                with open("/dev/loop-control", "rb") as control:
                    fcntl.ioctl(control, LOOP_CTL_ADD, number)
                run("losetup", self.path, str(image))
            except (FileExistsError, subprocess.CalledProcessError):
                # somebody else's: any free one is given to whoever mounts a file
                continue
            self._number = number
            return
        raise AssertionError("no loop device is free")

    def remove(self) -> None:
        run("losetup", "--detach", self.path)
        with open("/dev/loop-control", "rb") as control, suppress(OSError):
            fcntl.ioctl(control, LOOP_CTL_REMOVE, self._number)


class Disk:
    """An image of a file system, mounted; its kernel flags can be set."""

    def __init__(self, folder: Path, kind: str = "ext4", size: int = 200) -> None:
        self.image, self.at = folder / f"image.{kind}", folder / "at"
        self.at.mkdir()
        with open(self.image, "wb") as file:
            file.truncate(size * 2**20)
        run(f"mkfs.{kind}", *(["-q", "-F"] if kind == "ext4" else ["-q", "-f"]), str(self.image))
        self._device = LoopDevice(self.image)
        run("mount", self._device.path, str(self.at))
        self.mount = self._mount()
        self.queue = Path("/sys/block") / block_name(self.mount) / "queue"

    def _mount(self) -> Mount:
        return next(mount for mount in mount_table() if mount.path == str(self.at))

    def becomes(self, *, spins: bool, gives_back: bool) -> None:
        """Once it gives nothing back it never does again."""
        (self.queue / "rotational").write_text(str(int(spins)))
        if not gives_back:
            (self.queue / "discard_max_bytes").write_text("0")

    def arrange(self) -> ActionPart:
        (part,) = arrange(ArrangeDisks(), [(self.mount, "C:")], watch)
        return part

    def unmount(self) -> None:
        run("umount", str(self.at))
        self._device.remove()


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Disk]:
    disk = Disk(tmp_path)
    yield disk
    disk.unmount()


def fragment(folder: Path, files: int = 12) -> None:
    """Files that grow in turns, with the space between them taken."""
    handles = [open(folder / f"f{n}", "wb") for n in range(files)]  # noqa: SIM115
    for _ in range(30):
        for handle in handles:
            handle.write(os.urandom(8192))
            handle.flush()
            os.fsync(handle.fileno())
    for handle in handles:
        handle.close()


def test_pieces_on_a_spinning_disk_are_put_together_and_counted(disk: Disk) -> None:
    disk.becomes(spins=True, gives_back=False)
    fragment(disk.at)
    contents = {path.name: path.read_bytes() for path in disk.at.glob("f*")}
    files, before = pieces_on(str(disk.at), watch)
    assert files == 12 and before > 3 * files
    lie = lie_of(disk.mount, "C:", watch)
    assert lie.judgement.treatment is Treatment.GATHER and lie.pieces == before
    part = disk.arrange()
    assert part.end is ActEnd.DONE and f"{before} pieces" in part.before
    _, after = pieces_on(str(disk.at), watch)
    assert after < before / 2 and f"{after} piece" in part.after
    assert {path.name: path.read_bytes() for path in disk.at.glob("f*")} == contents
    assert disk.arrange().end in (ActEnd.NOTHING, ActEnd.FAILED), "there is little left to gather"


def test_a_solid_state_disk_is_told_what_is_free(disk: Disk) -> None:
    disk.becomes(spins=False, gives_back=True)
    (disk.at / "large").write_bytes(os.urandom(60 * 2**20))
    os.sync()
    (disk.at / "large").unlink()
    os.sync()
    before = disk.image.stat().st_blocks * 512
    part = disk.arrange()
    assert part.end is ActEnd.DONE and "given back" in part.after
    assert disk.image.stat().st_blocks * 512 < before - 50 * 2**20, "the image itself is smaller"


@pytest.mark.parametrize(("spins", "gives_back"), [(True, True), (False, False)])
def test_a_disk_whose_facts_disagree_gets_neither(
    disk: Disk, spins: bool, gives_back: bool
) -> None:
    disk.becomes(spins=spins, gives_back=gives_back)
    fragment(disk.at)
    before, size = pieces_on(str(disk.at), watch), disk.image.stat().st_blocks
    part = disk.arrange()
    assert part.end is ActEnd.REFUSED and part.why
    assert pieces_on(str(disk.at), watch) == before
    assert disk.image.stat().st_blocks == size


def test_facts_that_change_in_between_are_noticed(disk: Disk) -> None:
    disk.becomes(spins=True, gives_back=False)
    fragment(disk.at)
    flipped = []

    def flip(done: int = 0, of: int | None = None) -> None:
        # the first call is before the facts are asked; a later one is while files are counted
        flipped.append(1)
        if len(flipped) == 3:
            disk.becomes(spins=False, gives_back=False)

    (part,) = arrange(ArrangeDisks(), [(disk.mount, "C:")], flip)
    assert len(flipped) >= 3
    assert part.end is ActEnd.FAILED and "not certain" in part.why


def test_copy_on_write_is_never_rewritten(tmp_path: Path) -> None:
    disk = Disk(tmp_path, "btrfs")
    try:
        disk.becomes(spins=True, gives_back=False)
        part = disk.arrange()
        assert part.end is ActEnd.REFUSED and "copies what it rewrites" in part.why
    finally:
        disk.unmount()


def test_findings_come_first_and_one_bad_volume_costs_only_itself(disk: Disk) -> None:
    disk.becomes(spins=True, gives_back=False)
    fragment(disk.at)
    trigger = Path("/sys/fs/ext4") / block_name(disk.mount) / "trigger_fs_error"
    trigger.write_text("made for a test")
    nowhere = replace(disk.mount, path="/nowhere/at/all", source="/dev/none", device=0)
    parts = list(arrange(ArrangeDisks(), [(nowhere, "D:"), (disk.mount, "C:")], watch))
    assert [part.target for part in parts] == ["D:", "C:"]
    assert all(part.end in (ActEnd.REFUSED, ActEnd.FAILED) for part in parts)
    (part,) = arrange(ArrangeDisks(volumes=("E:",)), [(disk.mount, "C:")], watch)
    assert part.target == "E:" and part.end is ActEnd.REFUSED


def test_nothing_is_known_of_a_disk_that_is_not_there() -> None:
    nowhere = replace(mount_table()[0], source="/dev/none", device=0)
    facts = facts_of(nowhere)
    assert facts.spins is None and facts.gives_back is None


# --- repair ----------------------------------------------------------------------------------


def checked_at_start(disk: Disk, passes: str = "2") -> str:
    fstab = disk.image.parent / "fstab"
    fstab.write_text(f"# made for a test\n/dev/x {disk.at} ext4 defaults 0 {passes}\n")
    return str(fstab)


def test_a_repair_is_scheduled_once_and_the_next_check_is_a_whole_one(tmp_path: Path) -> None:
    disk = Disk(tmp_path)
    fstab = checked_at_start(disk)
    try:
        part = schedule_repair(disk.mount, "C:", fstab)
        assert part.end is ActEnd.DONE and part.needs_restart
        again = schedule_repair(disk.mount, "C:", fstab)
        assert again.end is ActEnd.NOTHING and "waits" in again.why
    finally:
        disk.unmount()
    said = run("e2fsck", "-p", str(disk.image))
    assert "check forced" in said, "the mark outlives its unmounting"
    head = run("dumpe2fs", "-h", str(disk.image))
    assert "Mount count:              0" in head
    run("mount", "-o", "loop", str(disk.image), str(disk.at))
    run("umount", str(disk.at))
    assert "check forced" not in run("e2fsck", "-p", str(disk.image)), "and is not there for ever"


def test_a_repair_is_refused_where_it_would_not_be_or_must_not(disk: Disk, tmp_path: Path) -> None:
    part = schedule_repair(disk.mount, "C:", checked_at_start(disk, "0"))
    assert part.end is ActEnd.REFUSED and "never checked" in part.why
    assert schedule_repair(None, "E:").end is ActEnd.REFUSED
    xfs = replace(disk.mount, file_system="xfs")
    assert schedule_repair(xfs, "C:").end is ActEnd.REFUSED


def test_a_failing_disk_is_never_repaired(disk: Disk, tmp_path: Path) -> None:
    block = tmp_path / "sys/class/block"
    name = block_name(disk.mount)
    (block / name / "device").mkdir(parents=True)
    tool = tmp_path / "smartctl"
    tool.write_text('#!/bin/sh\necho \'{"smart_status": {"passed": false}}\'\n')
    tool.chmod(0o755)
    fstab = checked_at_start(disk)
    part = schedule_repair(disk.mount, "C:", fstab, str(tmp_path / "sys"), str(tool))
    assert part.end is ActEnd.REFUSED and "save the data first" in part.why
    head = run("dumpe2fs", "-h", f"/dev/{name}")
    assert "Maximum mount count:      -1" in head
