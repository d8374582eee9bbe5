"""What the demo's machines have and lack: programs, updates, drivers, memory, how files lie."""

from __future__ import annotations

from datetime import datetime, timedelta
from random import Random

from phylax.agent.machines.standin_upkeep import (
    PretendedDisk,
    PretendedRestart,
    PretendedUpkeep,
)
from phylax.core.checks.findings import Finding, Severity
from phylax.core.ground.machines import System
from phylax.core.inventory.drivers import Driver
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.inventory.programs import InstalledProgram, Removal
from phylax.core.inventory.updates import Update
from phylax.demo import startup
from phylax.demo.scenario import MachineSpec

_MIB, _GIB = 2**20, 2**30
_SIZES = {"drift-folder": 640, "harbour-chat": 410, "picture-archive": 1900, "word-finder": 90,
          "offer-bar": 35, "old-scanner": 260}  # fmt: skip
"""MiB of programs that also run by themselves; others are small."""
_FURTHER = (
    # key, name, maker, version, MiB, days since it was used, trial, beginnings of tags
    ("page-press", "Page Press", "Harbour Software", "7.2", 2300, 2, False, ("ferry-", "museum-")),
    ("page-press", "Page Press", "Harbour Software", "6.9", 2100, 400, False, ("library-",)),
    (
        "tide-office",
        "Tide Office, trial version",
        "Tideline",
        "1.0",
        1800,
        520,
        True,
        ("library-", "oakes"),
    ),
    ("yacht-lines", "Yacht Lines", "Kelpie Drawings", "12.4", 8700, 1, False, ("boatyard-cad",)),
    ("kiln-log", "Kiln Log", "Claywork", "3.1", 60, 6, False, ("pottery",)),
    ("old-phone-copy", "Old phone copy", "", "2.0", 310, 900, False, ("boatyard-mac", "oakes")),
    ("score-reader", "Score Reader", "Choir Tools", "5.0", 420, 12, False, ("choir",)),
    ("game-of-gulls", "Game of Gulls", "Seabird", "1.8", 14_000, 420, False, ("oakes",)),
)
_SYSTEM_UPDATES = {
    System.WINDOWS: ("Monthly security rollup", "Makers of the system", True),
    System.MACOS: ("System, minor version", "Makers of the system", True),
    System.LINUX: ("libkelp", "Debian-Security:12/stable-security", True),
}
_LATE = ("library-", "oakes-laptop")
"""Where nobody has installed anything for long."""


def pretended(spec: MachineSpec, now: datetime, random: Random) -> PretendedUpkeep:
    """What `upkeep.json` says of a machine of the demo."""
    programs = tuple(_programs(spec, now))
    spins = spec.volumes[0].disk == "spinning"
    restart = PretendedRestart(
        seconds=8, after_seconds=6,
        usable_after=round(random.uniform(90, 140) if spins else random.uniform(22, 38)),
        failed_parts=("Old scanner driver",) if spec.tag == "museum-desk" else (),
    )  # fmt: skip
    return PretendedUpkeep(
        updates=tuple(_updates(spec, programs)),
        seconds_each=1.5,
        programs=programs,
        needs={"tide-office": ("tide-office-fonts",)},
        gone_for_good=("old-phone-copy",),
        drivers=tuple(_drivers(spec)),
        most_memory=_GIB * (16 if spec.memory <= 8 else 64),
        slots=_slots(spec),
        pressed=21.0 if spec.memory <= 4 else round(random.uniform(0, 2), 1),
        disks={volume.mount: _disk(spins, random) for volume in spec.volumes},
        seconds_arranging=4,
        files=random.randint(9000, 16_000),
        files_per_second=1500,
        condition=tuple(_condition(spec)),
        browsers=_browsers(spec),
        restart=restart,
    )


def _programs(spec: MachineSpec, now: datetime) -> list[InstalledProgram]:
    listed = [
        InstalledProgram(
            key=program.key,
            name=program.name,
            version=f"{len(program.key) % 5 + 1}.{len(program.name) % 9}",
            maker=program.signed_by,
            size=_SIZES.get(program.key, 24) * _MIB,
            last_used=now - timedelta(days=len(program.name) % 6),
            removal=Removal.NEVER if program.guarded else Removal.BY_AGENT,
            why=program.guarded,
        )
        for program in startup.PROGRAMS
        if program.is_on(spec)
    ]
    for key, name, maker, version, size, unused, trial, tags in _FURTHER:
        if any(spec.tag.startswith(tag) for tag in tags):
            listed.append(
                InstalledProgram(
                    key=key, name=name, maker=maker, version=version, size=size * _MIB,
                    last_used=now - timedelta(days=unused), trial=trial, removal=Removal.BY_AGENT,
                )
            )  # fmt: skip
    if any(program.key == "tide-office" for program in listed):
        listed.append(
            InstalledProgram(
                key="tide-office-fonts", name="Fonts of Tide Office", maker="Tideline",
                version="1.0", size=220 * _MIB, removal=Removal.BY_AGENT,
            )
        )  # fmt: skip
    return listed


def _updates(spec: MachineSpec, programs: tuple[InstalledProgram, ...]) -> list[Update]:
    name, origin, security = _SYSTEM_UPDATES[spec.system]
    listed = []
    if spec.tag.startswith(_LATE) or spec.tag == "choir-server":
        listed.append(
            Update(
                name=name, now="9", version="10", origin=origin, security=security,
                size=480 * _MIB, restart=spec.system is not System.LINUX,
            )
        )  # fmt: skip
    for program in programs:
        if program.key in ("harbour-chat", "page-press") and not spec.tag.startswith("museum"):
            number = float(program.version)
            listed.append(
                Update(
                    name=program.name, now=program.version, version=f"{number + 1:.1f}",
                    origin=program.maker, size=(program.size or 0) // 3,
                )
            )  # fmt: skip
    return listed


def _drivers(spec: MachineSpec) -> list[Driver]:
    maker = spec.make
    listed = [
        Driver(device="Screen", driver="screen", version="31.2", date="2024-05-14", maker=maker),
        Driver(device="Network, by cable", driver="net", version="12.1", date="2022-11-03",
               maker=maker),
        Driver(device="Sound", driver="sound", version="6.0", date="2021-02-20", maker=maker),
    ]  # fmt: skip
    if spec.tag == "museum-desk":
        listed.append(Driver(device="Scanner of 2009"))
    return listed


def _slots(spec: MachineSpec) -> tuple[MemorySlot, ...]:
    each = max(2, spec.memory // 2)
    held = MemorySlot(place="Slot 1", size=each * _GIB, kind="DDR4", maker="Skua", model="S-2400")
    if spec.memory <= 8:
        only = held.model_copy(update={"size": spec.memory * _GIB})
        return (only, MemorySlot(place="Slot 2"))
    return (held, held.model_copy(update={"place": "Slot 2"}))


def _disk(spins: bool, random: Random) -> PretendedDisk:
    files = random.randint(14_000, 20_000)
    if spins:
        return PretendedDisk(files=files, pieces=int(files * random.uniform(2.2, 3.4)))
    free = random.randint(4, 30) * _GIB
    return PretendedDisk(files=files, pieces=int(files * 1.2), free_blocks=free)


def _condition(spec: MachineSpec) -> list[Finding]:
    noted = []
    if spec.tag == "oakes-laptop":
        noted.append(
            Finding(severity=Severity.WARNING, what="The last backup is 214 days old",
                    evidence="a disk in a drawer, says Bram")
        )  # fmt: skip
    if spec.tag.startswith("library-"):
        noted.append(
            Finding(severity=Severity.NOTE, what="Not encrypted: whoever has the disk can read it",
                    where="C:")
        )  # fmt: skip
    return noted


def _browsers(spec: MachineSpec) -> dict[str, tuple[Finding, ...]]:
    if spec.tag != "oakes-laptop":
        return {}
    where = "Chromium, Default"
    return {
        "bram": (
            Finding(severity=Severity.WARNING, where=where, evidence="version 2.0",
                    what="Offer bar was added to the browser by another program"),
            Finding(severity=Severity.NOTE, where=where, what="Searches with Offer search"),
        )
    }  # fmt: skip
