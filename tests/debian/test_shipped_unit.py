"""Each kind of work, inside the rights of the unit that ships, under a real system manager."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest

from apt_root import AptRoot
from debian.conftest import Installed
from debian_machine import DATA, DebianMachine, debian
from helpers import make_file, wait_until
from phylax.client import Phylax
from phylax.core.actions import (
    ActEnd,
    ArrangeDisks,
    InstallUpdates,
    RemoveProgram,
    RepairFileSystem,
    TryRemoval,
)
from phylax.core.checks.findings import Result
from phylax.core.clients.shop import Machine
from phylax.core.ground.values import edit_of
from phylax.core.hold.holds import HeldPick
from phylax.core.retention import Rule, Scope
from phylax.core.runs.runs import RunState, WantedProgram, WantedSetting
from phylax.core.tuning.known import KnownEdit, ProgramDecision, Recognition
from phylax.core.tuning.programs import Intent
from phylax.core.tuning.rules import TuningRule

DISK_WATCH = "smartmontools"


def offer(linux: DebianMachine, packages: AptRoot) -> None:
    """The machine's package manager takes what a test's repository offers, and nothing else."""
    repository = linux.root / "srv/repository"
    subprocess.run(["cp", "-r", f"{packages.repository}/.", str(repository)], check=True)
    line = "deb [trusted=yes] file:/srv/repository ./\n"
    (linux.root / "etc/apt/sources.list").write_text(line)


@pytest.fixture
def packages(tmp_path: Path) -> AptRoot:
    return AptRoot(tmp_path / "packages")


def installed_on(linux: DebianMachine, *packages: Path) -> None:
    for package in packages:
        (linux.root / "srv" / package.name).write_bytes(package.read_bytes())
        linux.run("dpkg", "-i", f"/srv/{package.name}")


def version_on(linux: DebianMachine, name: str) -> str:
    form = "${Version} ${Status}"
    return linux.run("dpkg-query", "-W", f"-f={form}", name, check=False)


# --- settings ---------------------------------------------------------------------------------


def test_a_startup_program_is_changed_and_put_back(agent: Installed) -> None:
    linux, owner, tag = agent.linux, agent.owner, agent.machine.tag
    owner.programs.write(
        KnownEdit(
            recognition=Recognition(package=DISK_WATCH), name="Disk watch",
            handling=ProgramDecision.GOES, intent=Intent.ON_DEMAND,
        )
    )  # fmt: skip
    link = linux.root / f"etc/systemd/system/multi-user.target.wants/{DISK_WATCH}.service"
    target = link.readlink()
    agent.done(owner.runs.look_at_settings(tag).id)
    wanted = WantedProgram(program=f"package:{DISK_WATCH}", intent=Intent.ON_DEMAND)
    run = agent.done(owner.runs.change(tag, [wanted]).id)
    assert (run.state, run.reason) == (RunState.DONE, "")
    assert not link.is_symlink()
    (change,) = owner.programs.changes(tag)
    run = agent.done(owner.runs.put_settings_back(tag, [change.number]).id)
    assert run.state is RunState.DONE
    assert link.readlink() == target
    wait_until(lambda: not linux.units("phylax-settings-*"), "its unit to end with the work")


def test_a_setting_below_etc_is_set(agent: Installed) -> None:
    linux, owner, tag = agent.linux, agent.owner, agent.machine.tag
    agent.done(owner.runs.look_at_settings(tag).id)
    (seen,) = (row.seen for row in owner.programs.on(tag).values if row.seen.key == "updates")
    assert seen.writable, "it is this unit that may not write to /etc, not the machine"
    owner.settings.put_rule(Scope.SHOP, 0, "updates", TuningRule(value="tuesday-noon"))
    value = WantedSetting(setting="updates", value="tuesday-noon")
    run = agent.done(owner.runs.change(tag, values=[value]).id)
    assert (run.state, run.reason) == (RunState.DONE, "")
    drop_in = "etc/systemd/system/apt-daily.timer.d/90-phylax.conf"
    assert "Tue 12:10" in (linux.root / drop_in).read_text()


# --- packages ---------------------------------------------------------------------------------


def test_an_update_is_installed_whole_and_a_program_is_removed(
    agent: Installed, packages: AptRoot
) -> None:
    linux, owner, tag = agent.linux, agent.owner, agent.machine.tag
    installed_on(linux, packages.make("tide-table", "1.0"))
    script = "touch /usr/share/tide-table.made && touch /etc/tide-table.conf"
    packages.offer(packages.make("tide-table", "2.0", script=script))
    offer(linux, packages)
    agent.done(owner.runs.check(tag, ["updates"]).id)
    assert [row.update.name for row in owner.upkeep.updates(tag)] == ["tide-table"]
    run = agent.done(owner.upkeep.act(tag, InstallUpdates()).id)
    assert (run.state, run.reason) == (RunState.DONE, "")
    (part,) = owner.upkeep.acted(run.id)
    assert (part.target, part.end, part.after) == ("tide-table", ActEnd.DONE, "2.0")
    assert version_on(linux, "tide-table") == "2.0 install ok installed"
    made = linux.root / "usr/share/tide-table.made"
    assert made.stat().st_mode & 0o777 == 0o644, "what scripts make is everybody's to read"
    trial = TryRemoval(program="tide-table", version="2.0")
    assert agent.done(owner.upkeep.act(tag, trial).id).state is RunState.DONE
    removal = RemoveProgram(
        program="tide-table", version="2.0", not_reinstallable=True, backup_days=0
    )
    run = agent.done(owner.upkeep.act(tag, removal).id)
    assert (run.state, run.reason) == (RunState.DONE, "")
    assert "installed" not in version_on(linux, "tide-table")


def test_a_stopped_agent_leaves_the_package_manager_to_end_what_it_began(
    agent: Installed, packages: AptRoot
) -> None:
    linux, owner, tag = agent.linux, agent.owner, agent.machine.tag
    installed_on(linux, packages.make("tide-table", "1.0"))
    script = "touch /srv/begun; while [ ! -e /srv/go-on ]; do sleep 0.1; done; touch /srv/ended"
    packages.offer(packages.make("tide-table", "2.0", script=script))
    offer(linux, packages)
    run = owner.upkeep.act(tag, InstallUpdates())
    wait_until((linux.root / "srv/begun").exists, "the script of the package to begin", 300)
    linux.run("systemctl", "stop", "phylax-agent")
    assert linux.units("phylax-packages-*"), "it goes on beside the agent's unit"
    assert not (linux.root / "srv/ended").exists()
    # whoever stops that unit waits for it as well
    (unit,) = linux.units("phylax-packages-*")
    linux.run("systemctl", "stop", "--no-block", unit)
    make_file(linux.root / "srv/go-on", 0)
    wait_until(lambda: not linux.units("phylax-packages-*"), "the package manager to end", 300)
    assert version_on(linux, "tide-table") == "2.0 install ok installed"
    linux.run("systemctl", "start", "phylax-agent")
    ended = agent.done(run.id)
    assert ended.state is RunState.DONE, ended.reason
    (part,) = owner.upkeep.acted(run.id)
    told = (part.target, part.end, part.before, part.after)
    assert told == ("tide-table", ActEnd.DONE, "1.0", "2.0"), "what ended meanwhile is told"


@pytest.mark.parametrize(
    ("lines", "why"),
    [
        ("ProtectSystem=full", "/usr cannot be written to from here"),
        ("ReadOnlyPaths=/var/lib/dpkg", "/var/lib/dpkg cannot be written to from here"),
        ("CapabilityBoundingSet=CAP_DAC_OVERRIDE CAP_FOWNER CAP_CHOWN", "it lacks rights"),
        ("NoNewPrivileges=yes", "may not take the rights they need"),
    ],
)
def test_a_package_manager_that_cannot_end_is_not_begun(
    linux: DebianMachine, packages: AptRoot, lines: str, why: str
) -> None:
    """As with a unit of an earlier version, or one that an administrator has narrowed."""
    installed_on(linux, packages.make("tide-table", "1.0"))
    packages.offer(packages.make("tide-table", "2.0"))
    offer(linux, packages)
    program = (
        "from phylax.agent.machines.linux.apt import Apt\n"
        "from phylax.core.actions import InstallUpdates, RemoveProgram\n"
        "watch = lambda done=0, of=None: None\n"
        "removal = RemoveProgram(program='tide-table', version='1.0', backup_days=0)\n"
        "for part in (*Apt().install(InstallUpdates(), watch), *Apt().remove(removal, watch)):\n"
        "    print(part.end, part.why)\n"
    )
    (linux.root / "srv/try.py").write_text(program)
    said = linux.run(
        "systemd-run", "--quiet", "--pipe", "--wait", "--collect", "-p", lines,
        "python3", "/srv/try.py",
    )  # fmt: skip
    assert [line.split()[0] for line in said.splitlines()] == ["refused", "refused"]
    assert said.count("nothing was begun: ") == said.count(why) == 2
    assert version_on(linux, "tide-table") == "1.0 install ok installed"


# --- disks ------------------------------------------------------------------------------------


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[tuple[Path, str]]:
    """An ext4 file system of its own on a device: where it is mounted here, and the device."""
    image, at = tmp_path / "disk.img", tmp_path / "disk"
    at.mkdir()
    with image.open("wb") as file:
        file.truncate(64 * 2**20)
    subprocess.run(["mkfs.ext4", "-q", str(image)], check=True)
    found = subprocess.run(
        ["losetup", "--find", "--show", str(image)], check=True, capture_output=True, text=True
    )
    device = found.stdout.strip()
    # what the kernel says of the disk below: it does not turn, and takes free blocks back
    Path(f"/sys/block/{Path(device).name}/queue/rotational").write_text("0")
    try:
        subprocess.run(["mount", device, str(at)], check=True)
        try:
            yield at, device
        finally:
            subprocess.run(["umount", "-l", str(at)], check=False)
    finally:
        subprocess.run(["losetup", "-d", device], check=False)


@pytest.fixture
def linux_with_disk(tmp_path: Path, disk: tuple[Path, str]) -> Iterator[DebianMachine]:
    at, device = disk
    with debian(tmp_path / "machine", f"{at}:/srv/scans", device) as machine:
        yield machine


def test_disks_are_seen_checked_trimmed_and_marked_for_repair(
    linux_with_disk: DebianMachine, owner: Phylax, machine: Machine, disk: tuple[Path, str]
) -> None:
    agent = Installed(linux_with_disk, owner, machine)
    (linux_with_disk.root / "etc/fstab").write_text(f"{disk[1]} /srv/scans ext4 defaults 0 2\n")
    agent.install()
    shop, tag = agent.owner, agent.machine.tag
    agent.done(shop.runs.check(tag, ["file-system", "fragmentation"]).id)
    results = {
        (kept.checked.check, kept.checked.target): kept.checked for kept in shop.checks.of(tag)
    }
    assert results["file-system", "/srv/scans"].result is Result.CLEAN
    assert results["fragmentation", "/srv/scans"].result is Result.CLEAN
    repair = RepairFileSystem(volume="/srv/scans", backup_days=0)
    run = agent.done(shop.upkeep.act(tag, repair).id)
    (part,) = shop.upkeep.acted(run.id)
    assert (part.end, part.after) == (ActEnd.DONE, "repaired at the next start"), part.why
    run = agent.done(shop.upkeep.act(tag, ArrangeDisks(volumes=("/srv/scans",))).id)
    (part,) = shop.upkeep.acted(run.id)
    assert part.end is ActEnd.DONE and "given back" in part.after, part.why


# --- what it still may not ----------------------------------------------------------------------


def test_the_agent_itself_may_neither_write_to_etc_nor_open_a_device(agent: Installed) -> None:
    """What is done with more rights is done beside it, not by it."""
    linux = agent.linux
    pid = linux.run("systemctl", "show", "-P", "MainPID", "phylax-agent").strip()
    status = linux.run("cat", f"/proc/{pid}/status")
    given = int(status.partition("CapEff:")[2].split()[0], 16)
    assert given & (1 << 21) == 0, "no right to administer the system (capabilities(7))"
    mounts = linux.run("cat", f"/proc/{pid}/mountinfo")
    (etc,) = (line.split() for line in mounts.splitlines() if line.split()[4] == "/etc")
    assert "ro" in etc[5].split(",")
    security = linux.run("systemd-analyze", "security", "--no-pager", "phylax-agent", check=False)
    exposure = float(security.rpartition("phylax-agent.service: ")[2].split()[0])
    assert exposure < 5.5, security[-2000:]


def test_it_cleans_holds_and_puts_back(
    tmp_path: Path, disk: tuple[Path, str], owner: Phylax, machine: Machine
) -> None:
    """Where /var/log has a volume of its own, the hold lies at its top, inside the place."""
    logs, tag = disk[0], machine.tag
    with debian(tmp_path / "machine", f"{logs}:/var/log", disk[1]) as linux:
        agent = Installed(linux, owner, machine)
        agent.install()
        for name in ("one.log.1", "two.log.1"):
            make_file(logs / name, 2**20, days_old=90)
        all_but_small = Rule(keep_for=timedelta(0), only_larger=2**16)
        held = edit_of(Rule, all_but_small, hold_for=timedelta(days=3))
        owner.rules.put(Scope.SHOP, 0, "old-logs", held)
        agent.done(owner.runs.survey(tag).id)
        run = agent.done(owner.runs.clean(tag, ["old-logs"]).id)
        assert run.held is not None and run.held.count == 2, run.left
        assert not (logs / "two.log.1").exists()
        (hold,) = owner.holds.list(tag)
        run = agent.done(owner.runs.put_back(tag, [HeldPick(hold_id=hold.id)]).id)
        assert run.put_back is not None, run.left
        assert (run.put_back.count, run.put_back.size) == (2, 2 * 2**20)
        assert (logs / "two.log.1").stat().st_size == 2**20
        known = owner.rules.get(Scope.SHOP, 0, "old-logs")
        gone = edit_of(Rule, all_but_small, hold_for=timedelta(0))
        owner.rules.put(Scope.SHOP, 0, "old-logs", gone, version=known.version)
        run = agent.done(owner.runs.clean(tag, ["old-logs"]).id)
        assert run.removed is not None and run.removed.count == 2, run.left
        assert not (logs / "two.log.1").exists()
        assert (linux.root / DATA.lstrip("/")).stat().st_mode & 0o077 == 0
