"""Settings that a desktop's own daemons keep, with the real ones on buses of our own."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from desktop_daemons import power_daemon
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.machines.linux.values import power, processor
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.core.ground.values import Scalar
from phylax.core.protocol import ChangeSettingsOrder, PutSettingsBackOrder
from phylax.core.tuning.changes import ChangeMade, ChangeState, WantedValue
from phylax.core.tuning.pieces import StoredText
from startup_trees import add_file, picture


def change(
    run: SettingsRun, setting: str, was: Scalar, value: Scalar, number: int = 1
) -> ChangeMade:
    wanted = WantedValue(setting=setting, previous=was, value=value)
    (made,) = run.change(ChangeSettingsOrder(run_id=1, lease="l", values=(wanted,)))
    return made


def back(run: SettingsRun, made: ChangeMade) -> ChangeMade:
    assert made.id is not None, made.refused
    (told,) = run.put_back(PutSettingsBackOrder(run_id=99, lease="l", changes=(made.id,)))
    return told


# --- power --------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with power_daemon(tmp_path_factory.mktemp("power")) as address:
        yield address


def said_of(address: str) -> str:
    """What the daemon says, by another client than ours."""
    return subprocess.run(
        ["gdbus", "call", "--system", "-d", "net.hadess.PowerProfiles", "-o",
         "/net/hadess/PowerProfiles", "-m", "org.freedesktop.DBus.Properties.Get",
         "net.hadess.PowerProfiles", "ActiveProfile"],
        env={"PATH": os.environ["PATH"], "DBUS_SYSTEM_BUS_ADDRESS": address},
        check=True, capture_output=True, text=True,
    ).stdout  # fmt: skip


@pytest.fixture
def powered(address: str, tmp_path: Path) -> LinuxMachine:
    (tmp_path / "root").mkdir()
    return LinuxMachine(root=str(tmp_path / "root"), system_bus=address)


@pytest.mark.parametrize(("value", "word"), [("speed", "performance"), ("battery", "power-saver")])
def test_power_is_set_at_the_real_daemon_and_put_back(
    powered: LinuxMachine, address: str, tmp_path: Path, value: str, word: str
) -> None:
    run = SettingsRun(powered, tmp_path / "journal", frozenset())
    assert [(seen.key, seen.value) for seen in powered.values()] == [("power", "even")]
    made = change(run, "power", "even", value)
    assert made.refused == ""
    assert word in said_of(address)
    assert back(run, made).state is ChangeState.PUT_BACK
    assert "balanced" in said_of(address)


def test_what_somebody_chose_since_is_theirs(
    powered: LinuxMachine, address: str, tmp_path: Path
) -> None:
    run = SettingsRun(powered, tmp_path / "journal", frozenset())
    made = change(run, "power", "even", "speed")
    profile = power.PowerProfile(address)
    profile.write("active", StoredText(text="power-saver"))
    assert [drift.value for drift in run.drifted([], powered.values())] == ["saving first"]
    assert back(run, made).state is ChangeState.ALTERED
    assert "power-saver" in said_of(address)
    profile.write("active", StoredText(text="balanced"))


@pytest.mark.parametrize("word", ["fastest", "", "performance'; x"])
def test_the_daemon_is_told_nothing_else(address: str, word: str) -> None:
    with pytest.raises(OSError, match="is no way to use power"):
        power.PowerProfile(address).write("active", StoredText(text=word))
    assert "balanced" in said_of(address)


@pytest.mark.parametrize("where", ["unix:path=/nonexistent/bus", "nonsense"])
def test_a_machine_without_such_a_daemon_has_no_such_setting(where: str) -> None:
    assert list(power.PowerProfile(where).values()) == []


def test_nothing_for_plugged_in_changes_on_battery(
    powered: LinuxMachine, address: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(LinuxMachine, "on_battery", lambda self: True)
    run = SettingsRun(powered, tmp_path / "journal", frozenset())
    assert change(run, "power", "even", "speed").refused == "on battery"
    assert "balanced" in said_of(address)


# --- the processor ------------------------------------------------------------------------------

CPU = "sys/devices/system/cpu"


def lay_policies(root: Path, *highest: int, whole: int = 3_200_000) -> None:
    (root / "etc/tmpfiles.d").mkdir(parents=True)
    for number, value in enumerate(highest):
        policy = f"{CPU}/cpufreq/policy{number}"
        add_file(root, f"{policy}/cpuinfo_max_freq", f"{whole}\n")
        add_file(root, f"{policy}/scaling_max_freq", f"{value}\n")
        add_file(root, f"{policy}/scaling_min_freq", f"{whole // 4}\n")


def lay_whole(root: Path) -> None:
    (root / "etc/tmpfiles.d").mkdir(parents=True)
    add_file(root, f"{CPU}/intel_pstate/max_perf_pct", "100\n")
    add_file(root, f"{CPU}/intel_pstate/min_perf_pct", "25\n")


def numbers(root: Path) -> dict[str, object]:
    """What lies there; a number of the kernel's, however it is written."""
    return {
        name: int(kept[3]) if name.startswith("sys/") and kept[0] == "file" else kept  # type: ignore[call-overload]
        for name, kept in picture(root).items()
    }


@pytest.mark.parametrize("of_cores", [True, False])
@pytest.mark.parametrize(
    ("key", "was", "value"), [("processor-highest", 100, 70), ("processor-lowest", 25, 50)]
)
def test_the_processors_shares_are_set_now_and_at_each_start(
    tmp_path: Path, of_cores: bool, key: str, was: int, value: int
) -> None:
    root = tmp_path / "root"
    if of_cores:
        lay_policies(root, 3_200_000, 3_200_000)
    else:
        lay_whole(root)
    started = tmp_path / "started"
    shutil.copytree(root, started)
    machine = LinuxMachine(root=str(root), system_bus="unix:path=/nonexistent")
    run = SettingsRun(machine, tmp_path / "journal", frozenset())
    before = numbers(root)
    made = change(run, key, was, value)
    assert made.refused == ""
    assert {seen.key: seen.value for seen in machine.values()}[key] == value
    # a start of the machine: the kernel's own numbers, and then what the system says of them
    for path in (started / "sys").rglob(f"*{processor.SETTINGS[key]}_*"):
        if not path.name.startswith("cpuinfo"):
            path.write_text("")  # a plain file keeps what is longer, a kernel's does not
    (file,) = (root / "etc/tmpfiles.d").iterdir()
    shutil.copy(file, started / "etc/tmpfiles.d")
    command = ["systemd-tmpfiles", f"--root={started}", "--create", file.name]
    subprocess.run(command, check=True, capture_output=True)
    assert numbers(started) == numbers(root)
    assert back(run, made).state is ChangeState.PUT_BACK
    assert numbers(root) == before


def test_cores_that_go_by_different_shares_are_left(tmp_path: Path) -> None:
    lay_policies(tmp_path / "root", 3_200_000, 1_600_000)
    machine = LinuxMachine(root=str(tmp_path / "root"), system_bus="unix:path=/nonexistent")
    run = SettingsRun(machine, tmp_path / "journal", frozenset())
    before = picture(tmp_path / "root")
    assert "different shares" in change(run, "processor-highest", 100, 70).refused
    assert picture(tmp_path / "root") == before


@pytest.mark.parametrize(
    "path",
    ["etc/passwd", f"{CPU}/../../../../etc/passwd", f"{CPU}/cpufreq/policy0/scaling_governor",
     f"{CPU}/cpufreq/policy0/../policy0/scaling_max_freq", ""],
)  # fmt: skip
def test_no_other_file_of_the_kernels_is_written(tmp_path: Path, path: str) -> None:
    lay_policies(tmp_path / "root", 3_200_000)
    before = picture(tmp_path / "root")
    with pytest.raises(OSError, match="is not set by us"):
        processor.KernelValues(str(tmp_path / "root")).write(path, StoredText(text="1"))
    assert picture(tmp_path / "root") == before
