"""Which disks volumes are on, and what a tool says of them: honest, odd, or hostile."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from phylax.agent.machines.linux.checks import disk_health
from phylax.agent.machines.linux.checks.checks import disks, file_systems
from phylax.agent.machines.linux.mounts import Mount
from phylax.core.checks.findings import Result, Severity


def mount(source: str, path: str = "/", kind: str = "ext4") -> Mount:
    return Mount(
        number=1, path=path, device=0, root="/", file_system=kind, source=source,
        options=frozenset(),
    )  # fmt: skip


@pytest.fixture
def sys(tmp_path: Path) -> Path:
    """A disk with two partitions, an encrypted volume on one of them, and a loop device."""
    sys = tmp_path / "sys"
    block = sys / "class/block"
    block.mkdir(parents=True)
    whole = sys / "devices/pci/block/sda"
    for name in ("sda1", "sda2"):
        (whole / name).mkdir(parents=True)
        (whole / name / "partition").write_text("1\n")
        (block / name).symlink_to(whole / name)
    (whole / "device").mkdir()
    (block / "sda").symlink_to(whole)
    (block / "dm-0/slaves").mkdir(parents=True)
    (block / "dm-0/slaves/sda2").symlink_to(whole / "sda2")
    (block / "loop0").mkdir()
    (sys / "fs/ext4/sda1").mkdir(parents=True)
    (sys / "fs/ext4/sda1/errors_count").write_text("0\n")
    return sys


def tool(tmp_path: Path, says: str) -> str:
    script = tmp_path / "smartctl"
    script.write_text(f"#!/bin/sh\n{says}\n")
    script.chmod(0o755)
    return str(script)


WELL = {"smart_status": {"passed": True}, "smartctl": {"exit_status": 0}}
FAILS = {"smart_status": {"passed": False}, "smartctl": {"exit_status": 8}}


def test_each_disk_is_asked_once_through_partitions_and_encryption(sys: Path) -> None:
    volumes = [mount("/dev/sda1"), mount("/dev/dm-0", "/home"), mount("/dev/loop0", "/snap")]
    assert disk_health.disks(volumes, str(sys)) == ["sda"]


def test_a_failing_disk_is_found_though_its_tool_ends_with_an_error(
    sys: Path, tmp_path: Path
) -> None:
    says = tool(tmp_path, f"echo '{json.dumps(FAILS)}'; exit 8")
    (checked,) = disks([mount("/dev/sda1")], str(sys), says)
    assert (checked.target, checked.result) == ("sda", Result.FINDINGS)
    assert [finding.severity for finding in checked.findings] == [Severity.FAILING]
    well = tool(tmp_path, f"echo '{json.dumps(WELL)}'")
    (checked,) = disks([mount("/dev/sda1")], str(sys), well)
    assert checked.result is Result.CLEAN


@pytest.mark.parametrize(
    ("says", "why"),
    [
        ("echo nonsense; exit 0", "nothing that can be read"),
        ("exit 1", "nothing that can be read"),
        ("echo '[1, 2]'", "nothing that can be read"),
        ("echo '{}'", "says nothing of itself"),
        ("yes '{' | head -c 900000", "more than"),
        ("yes '[' | tr -d '\\n' | head -c 100000", "nothing that can be read"),
    ],
)
def test_a_hostile_tool_costs_only_its_disk(sys: Path, tmp_path: Path, says: str, why: str) -> None:
    (checked,) = disks([mount("/dev/sda1")], str(sys), tool(tmp_path, says))
    assert checked.result is Result.COULD_NOT_LOOK and why in checked.why


def test_a_tool_that_is_not_there_is_said(sys: Path, tmp_path: Path) -> None:
    (checked,) = disks([mount("/dev/sda1")], str(sys), str(tmp_path / "none"))
    assert "is not installed" in checked.why


def test_one_volume_that_says_nothing_costs_only_itself(sys: Path) -> None:
    volumes = [(mount("/dev/sda1"), "/"), (mount("/dev/dm-0", kind="xfs"), "/home"),
               (mount("/dev/sda2"), "/srv")]  # fmt: skip
    checked = list(file_systems(volumes, str(sys)))
    assert [one.result for one in checked] == [
        Result.CLEAN, Result.COULD_NOT_LOOK, Result.COULD_NOT_LOOK,
    ]  # fmt: skip
    assert "nothing tells of xfs" in checked[1].why and "no count" in checked[2].why
