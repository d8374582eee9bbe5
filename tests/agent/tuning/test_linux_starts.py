"""What a start of a Linux machine cost, by control group: laid out, and the kernel's own."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from phylax.agent.machines.linux import LinuxMachine, starts
from phylax.core.tuning.programs import Program, Starter, StarterKind
from phylax.core.tuning.trials import LeftOut
from startup_trees import add_file

NOW = datetime(2026, 3, 2, 9, 0, tzinfo=UTC)
UPTIME = 610.0
V1 = "sys/fs/cgroup/cpuacct"
V2 = "sys/fs/cgroup"


def program(name: str, *starters: tuple[str, StarterKind]) -> Program:
    return Program(
        key=f"package:{name}",
        name=name,
        starters=tuple(Starter(key=key, kind=kind, on=True) for key, kind in starters),
    )


PROGRAMS = (
    program("search", ("unit:system:search.service", StarterKind.START)),
    program("nightly", ("unit:system:nightly.timer", StarterKind.TIMER)),
    program("each", ("unit:system:each@.service", StarterKind.START)),
    program("chat", ("sign-in:anna:chat.desktop", StarterKind.SIGN_IN)),
    program("sea-map", ("sign-in:anna:sea-map.desktop", StarterKind.SIGN_IN)),
    program("sync", ("unit:user:sync.service", StarterKind.START)),
)
USER = "user.slice/user-1000.slice/user@1000.service"
GROUPS = {
    "system.slice/search.service": 4.0,
    "system.slice/search.service/below": 3.0,  # is in its parent's already
    "system.slice/nightly.service": 1.0,
    "system.slice/system-each.slice/each@one.service": 0.5,
    "system.slice/system-each.slice/each@two.service": 0.25,
    "system.slice/strange.service": 8.0,
    f"{USER}/app.slice/app-chat@autostart.service": 2.0,
    f"{USER}/app.slice/app-gnome-sea\\x2dmap-4711.scope": 1.5,
    f"{USER}/app.slice/sync.service": 0.75,
    "user.slice/user-1000.slice/session-2.scope": 6.0,
}


def lay(root: Path, layout: str) -> None:
    for group, seconds in GROUPS.items():
        if layout == V1:
            add_file(root, f"{V1}/{group}/cpuacct.usage", f"{round(seconds * 1e9)}\n")
        else:
            text = f"usage_usec {round(seconds * 1e6)}\nuser_usec 1\nsystem_usec 1\n"
            add_file(root, f"{V2}/{group}/cpu.stat", text)
    if layout == V2:
        add_file(root, f"{V2}/cgroup.controllers", "cpu io memory\n")
    ticks = os.sysconf("SC_CLK_TCK")
    # 40 s of work; idle and waiting are none, guests are counted as user already
    add_file(
        root, "proc/stat", f"cpu {30 * ticks} 0 {10 * ticks} 999 999 0 0 0 999 999\ncpu0 1 1\n"
    )
    add_file(root, "proc/sys/kernel/random/boot_id", "5ec6a3f2-0000-4000-8000-000000000001\n")


@pytest.fixture(params=[V1, V2], ids=["version 1", "version 2"])
def root(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    lay(tmp_path, request.param)
    return tmp_path


def test_each_group_is_its_programs_and_the_rest_is_nobodys(root: Path) -> None:
    start = starts.cost(str(root), PROGRAMS, NOW, UPTIME)
    assert start.programs == pytest.approx(
        {
            "package:search": 4.0, "package:chat": 2.0, "package:sea-map": 1.5,
            "package:nightly": 1.0, "package:each": 0.75, "package:sync": 0.75,
        }
    )  # fmt: skip
    assert start.unattributed == pytest.approx(30.0)
    assert start.boot == "5ec6a3f2-0000-4000-8000-000000000001"
    assert start.at == datetime(2026, 3, 2, 8, 49, 50, tzinfo=UTC)
    assert start.left_out is None


def test_a_person_cannot_give_the_systems_cost_to_another_program(root: Path) -> None:
    """A unit of a person's is never the system's, whatever its name."""
    group = f"{USER}/app.slice/search.service"
    add_file(root, f"{V1}/{group}/cpuacct.usage", f"{500 * 10**9}\n")
    add_file(root, f"{V2}/{group}/cpu.stat", f"usage_usec {500 * 10**6}\n")
    start = starts.cost(str(root), PROGRAMS, NOW, UPTIME)
    assert start.programs is not None and start.programs["package:search"] == pytest.approx(4.0)
    assert start.unattributed == pytest.approx(30.0), "the sum never goes below nothing"


def test_a_group_that_ended_or_is_odd_costs_only_itself(root: Path) -> None:
    for below in (V1, V2):
        (root / below / "system.slice/ended.service").mkdir(parents=True)
        add_file(root, f"{below}/system.slice/odd.service/cpuacct.usage", "many\n")
        add_file(root, f"{below}/system.slice/odd.service/cpu.stat", "usage_usec lots\n")
    start = starts.cost(str(root), PROGRAMS, NOW, UPTIME)
    assert start.programs is not None and len(start.programs) == 6


def test_why_a_start_does_not_count(root: Path) -> None:
    def why() -> LeftOut | None:
        return starts.cost(str(root), PROGRAMS, NOW, UPTIME).left_out

    add_file(root, "sys/class/power_supply/AC/type", "Mains\n")
    add_file(root, "sys/class/power_supply/AC/online", "0\n")
    assert why() is LeftOut.ON_BATTERY
    add_file(root, "sys/class/power_supply/AC/online", "1\n")
    assert why() is None
    status = add_file(root, "var/lib/dpkg/status", "")
    began = NOW.timestamp() - UPTIME
    os.utime(status, (began, began - 3 * 86_400))
    assert why() is None
    os.utime(status, (began, began - 3600))
    assert why() is LeftOut.AFTER_UPDATES
    status.unlink()
    # signed in just now, as far as this folder says: minutes after the start
    (root / "run/user/1000").mkdir(parents=True)
    assert why() is LeftOut.WAITED


def test_a_kernel_that_does_not_count_is_an_error_and_no_zero(tmp_path: Path) -> None:
    (tmp_path / "sys/fs/cgroup").mkdir(parents=True)
    with pytest.raises(ValueError, match="by control group"):
        starts.cost(str(tmp_path), PROGRAMS, NOW, UPTIME)


@pytest.mark.parametrize(
    ("uptime", "number"), [(5.0, 0), (599.0, 0), (600.0, 1), (659.0, 1), (660.0, 0), (90_000.0, 0)]
)
def test_it_is_told_in_one_minute_only(
    monkeypatch: pytest.MonkeyPatch, uptime: float, number: int
) -> None:
    """Later, what people do has begun to count."""
    monkeypatch.setattr("phylax.agent.machines.linux.running", lambda: uptime)
    monkeypatch.setattr(LinuxMachine, "programs", lambda self: [])
    monkeypatch.setattr(starts, "cost", lambda *args: "a start")
    assert len(LinuxMachine().starts()) == number


GROUP = "phylax-test.service"


@pytest.fixture
def own_group() -> Iterator[Path]:
    """A control group of our own in the kernel's tree, where we may make one."""
    top = Path("/sys/fs/cgroup")
    if not (top / "cgroup.controllers").exists():
        top /= "cpuacct"
    group = top / GROUP
    try:
        group.mkdir()
    except OSError:
        pytest.skip("no right to make a control group here")
    yield group
    group.rmdir()


def test_the_kernel_counts_for_a_group_what_its_ended_children_took(own_group: Path) -> None:
    burn = "import time\nwhile time.process_time() < 0.3: pass"
    join = f"echo $$ > {own_group}/cgroup.procs; {sys.executable} -c '{burn}'; exit 0"
    subprocess.run(["/bin/sh", "-c", join], check=True)
    ours = program("burner", (f"unit:system:{GROUP}", StarterKind.START))
    start = starts.cost("/", [ours], NOW, UPTIME)
    assert start.programs is not None and start.programs["package:burner"] >= 0.3
    assert start.unattributed > 0 and start.boot == starts.boot()
