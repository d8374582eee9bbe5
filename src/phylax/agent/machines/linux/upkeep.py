"""What a Linux machine is checked for, and what is done to it, each by its own part."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from typing import NamedTuple

from phylax.agent.machines.linux.actions.arranging import arrange
from phylax.agent.machines.linux.actions.name_cache import clear_name_cache
from phylax.agent.machines.linux.actions.repairing import schedule_repair
from phylax.agent.machines.linux.apt import Apt
from phylax.agent.machines.linux.checks import (
    built_in,
    malware,
    unmounted,
)
from phylax.agent.machines.linux.checks import (
    checks as of_machine,
)
from phylax.agent.machines.linux.checks.browsers import browsers
from phylax.agent.machines.linux.checks.condition import condition
from phylax.agent.machines.linux.checks.fragmentation import lie_of
from phylax.agent.machines.linux.checks.system_files import system_files
from phylax.agent.machines.linux.mounts import Mount, mount_over
from phylax.agent.machines.linux.packages import Packages
from phylax.agent.machines.upkeep import Watch
from phylax.core.actions import (
    Action,
    ActionPart,
    ArrangeDisks,
    ClearNameCache,
    InstallUpdates,
    RemoveProgram,
    RepairFileSystem,
    TryRemoval,
    UnderWay,
)
from phylax.core.checks.findings import Checked, could_not_look, looked
from phylax.core.inventory import DisksListed, HardwareListed, Inventory, ProgramsListed
from phylax.core.inventory.disks import VolumeOnDisk
from phylax.core.inventory.programs import MOST_INSTALLED, of_trials
from phylax.core.inventory.updates import UpdatesListed, of_missing

NamedMount = tuple[Mount, str]
"""A volume that is looked after, with the name that people know it by."""


class Upkeep(NamedTuple):
    """The parts of one machine that its upkeep is about."""

    root: str
    asks_system: bool
    """False where only some homes are looked after: the system is not the agent's to ask."""
    volumes: Sequence[NamedMount]
    system_bus: str
    make: str
    model: str
    memory: int
    scanned: Sequence[tuple[str, str]] = ()
    """Where a quick scan looks: real paths, and as people write them."""
    homes: Sequence[tuple[str, str]] = ()
    """Of whom the agent itself may read: (name, home)."""
    scanner: str = ""
    """Its socket; empty: the one that is set up on the machine."""


_QUICK = ("tmp", "var/tmp", "usr/local/bin", "etc/xdg/autostart", "opt")
_QUICK_OF_PERSON = ("Downloads", "Desktop", ".local/bin", ".config/autostart", ".tmp")


def quick_places(root: str, homes: Iterable[str]) -> list[tuple[str, str]]:
    """Where things come in and where programs start from; `homes` are those of everybody whose
    things may be read."""
    paths = [os.path.join(root, below) for below in _QUICK]
    paths += [os.path.join(home, below) for home in homes for below in _QUICK_OF_PERSON]
    # what somebody mounted may never answer: it is not even asked whether it is a folder
    return [
        (path, path)
        for path in paths
        if mount_over(path).answers and os.path.isdir(path) and not os.path.islink(path)
    ]


HOMES_ONLY = "this agent looks after some homes only"


def check(of: Upkeep, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
    """OSError where it cannot be checked."""
    started = datetime.now(UTC)
    if not of.asks_system and kind in ("updates", "programs", "system-files"):
        raise OSError(errno.ENOTSUP, HOMES_ONLY, kind)
    match kind:
        case "file-system":
            yield from of_machine.file_systems(of.volumes)
            if mode == "all":
                yield from unmounted.check_unmounted(watch)
        case "disk-health":
            yield from of_machine.disks([mount for mount, _ in of.volumes])
        case "malware":
            tops = of.scanned if mode != "full" else [(m.path, name) for m, name in of.volumes]
            scanner = of.scanner or malware.socket_path()
            yield malware.scan(tops, mode or "quick", watch, scanner)
        case "updates":
            listed = Apt(of.root).updates(watch)
            yield listed
            yield _of_updates(listed, started)
        case "programs":
            programs = tuple(Packages(of.root).installed_programs())[:MOST_INSTALLED]
            yield ProgramsListed(taken_at=started, programs=programs)
            yield looked(kind, "", started, of_trials(programs), units=len(programs))
        case "drivers":
            yield from built_in.drivers(of.root)
        case "hardware":
            hardware: HardwareListed = built_in.hardware(of.make, of.model, of.memory, of.root)
            yield hardware
            if hardware.unread:
                yield could_not_look(kind, "", started, hardware.unread)
            else:
                yield looked(kind, "", started, [], units=len(hardware.slots))
        case "fragmentation":
            yield from _fragmentation(of, watch)
        case "system-files":
            yield system_files(watch, of.root)
        case "browsers":
            for name, home in of.homes:
                yield looked(kind, name, datetime.now(UTC), browsers(home))
        case "condition":
            yield condition([mount for mount, _ in of.volumes], of.root)
        case _:
            raise OSError(errno.ENOTSUP, "is not checked on this system yet", kind)


def _of_updates(listed: UpdatesListed, started: datetime) -> Checked:
    if listed.unread:
        return could_not_look("updates", "", started, listed.unread)
    return looked("updates", "", started, of_missing(listed.updates), units=len(listed.updates))


def _fragmentation(of: Upkeep, watch: Watch) -> Iterator[Checked | Inventory]:
    at, volumes = datetime.now(UTC), list[VolumeOnDisk]()
    for mount, shown in of.volumes:
        started = datetime.now(UTC)
        try:
            volume = lie_of(mount, shown, watch)
        except OSError as failure:
            why = failure.strerror or "cannot be looked at"
            yield could_not_look("fragmentation", shown, started, why)
            continue
        volumes.append(volume)
        yield looked("fragmentation", shown, started, [], units=volume.files or 0)
    yield DisksListed(taken_at=at, volumes=tuple(volumes))


def act(
    of: Upkeep, action: Action, watch: Watch, cut_off: UnderWay | None = None
) -> Iterator[ActionPart | UnderWay]:
    """OSError where it cannot be done here."""
    if not of.asks_system and action.touches:
        raise OSError(errno.ENOTSUP, HOMES_ONLY, action.action)
    match action:
        case RepairFileSystem():
            mount = next((m for m, name in of.volumes if name == action.volume), None)
            yield schedule_repair(mount, action.volume)
        case ArrangeDisks():
            yield from arrange(action, of.volumes, watch)
        case InstallUpdates():
            yield from Apt(of.root).install(action, watch, cut_off)
        case TryRemoval():
            yield Apt(of.root).try_removal(action, watch)
        case RemoveProgram():
            yield from Apt(of.root).remove(action, watch)
        case ClearNameCache():
            yield clear_name_cache(of.system_bus)
        case _:
            raise OSError(errno.ENOTSUP, "is not done this way", action.action)
