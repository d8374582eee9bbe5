"""The stand-in: a folder that pretends to be a whole machine, of any system.

`machine.toml` in the folder says what it pretends to be (see docs/stand-in.md); each volume is a
folder of sparse files with a capacity of its own. The real engine works on it, so that every system
can be tried where none of them runs.
"""

from __future__ import annotations

import errno
import os
import time
import tomllib
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

from pydantic import AwareDatetime, Field, TypeAdapter

from phylax import __version__
from phylax.agent.machines import HOLD, InUse, Location, Thing, TrashLayout
from phylax.agent.machines.standin_startup import PretendedStarting, Startup
from phylax.agent.machines.standin_upkeep import StandInUpkeep
from phylax.agent.machines.upkeep import Watch
from phylax.agent.tuning.setting_backend import LocalSettingBackend, SettingBackend
from phylax.core.actions import Action, ActionPart, UnderWay
from phylax.core.catalogue import Folder, Source
from phylax.core.checks.findings import Checked
from phylax.core.ground.machines import DiskKind, MachineFacts, System
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.values import Bytes, Demand, Scalar
from phylax.core.inventory import Inventory
from phylax.core.tuning.pieces import Piece
from phylax.core.tuning.programs import Program, Switch
from phylax.core.tuning.starts import BootCost
from phylax.core.tuning.verdicts import Seen

STATE_FILE = "machine.toml"

THINGS_FILE = "things.json"

BELOW_HOME: dict[System, dict[Folder, str]] = {
    System.WINDOWS: {
        "user-home": "",
        "user-temp": "AppData/Local/Temp",
        "user-downloads": "Downloads",
        "user-local-data": "AppData/Local",
        "user-roaming-data": "AppData/Roaming",
    },
    System.MACOS: {
        "user-home": "",
        "user-temp": "Library/Caches/TemporaryItems",
        "user-trash": ".Trash",
        "user-downloads": "Downloads",
        "user-cache": "Library/Caches",
        "user-config": "Library/Application Support",
        "user-logs": "Library/Logs",
    },
    System.LINUX: {
        "user-home": "",
        "user-temp": ".tmp",
        "user-trash": ".local/share/Trash",
        "user-downloads": "Downloads",
        "user-cache": ".cache",
        "user-config": ".config",
    },
}
BELOW_TOP: dict[System, dict[Folder, tuple[str, ...]]] = {
    System.WINDOWS: {
        "system-volume": ("",),
        "system-folder": ("Windows",),
        "system-temp": ("Windows/Temp",),
        "system-logs": ("Windows/Logs",),
        "system-data": ("ProgramData",),
        "public-home": ("Users/Public",),
    },
    System.MACOS: {
        "system-temp": ("private/tmp", "private/var/tmp"),
        "system-cache": ("Library/Caches",),
        "system-logs": ("Library/Logs", "private/var/log"),
        "system-data": ("Library",),
    },
    System.LINUX: {
        "system-temp": ("tmp", "var/tmp"),
        "system-cache": ("var/cache",),
        "system-logs": ("var/log",),
        "crash-reports": ("var/crash", "var/lib/systemd/coredump"),
        "journal": ("var/log/journal",),
    },
}
"""Below the top of the system's volume."""
_SEALED = {
    System.WINDOWS: ("Windows", "Program Files", "Program Files (x86)"),
    System.MACOS: ("System", "Applications", "usr", "bin", "sbin"),
    System.LINUX: ("bin", "boot", "etc", "lib", "opt", "sbin", "srv", "usr", "var/lib"),
}
_OPENINGS = {
    System.WINDOWS: (
        "Windows/Temp", "Windows/Logs", "Windows/Prefetch", "Windows/Minidump",
        "Windows/LiveKernelReports", "Windows/SoftwareDistribution", "Windows/servicing/LCU",
        "Windows/WinSxS/Temp/PendingDeletes", "Windows/ServiceProfiles",
    ),
    System.MACOS: (),
    System.LINUX: ("var/lib/systemd/coredump",),
}  # fmt: skip
HOMES = {System.WINDOWS: "Users", System.MACOS: "Users", System.LINUX: "home"}
_OWN_FOLDERS = {
    System.WINDOWS: ("Documents", "Pictures", "Desktop", "Music", "Videos"),
    System.MACOS: ("Documents", "Pictures", "Desktop", "Music", "Movies", "Library/Mail"),
    System.LINUX: ("Documents", "Pictures", "Desktop", "Music", "Videos"),
}
_LAYOUTS: dict[System, TrashLayout] = {
    System.WINDOWS: "recycle-bin",
    System.MACOS: "plain",
    System.LINUX: "freedesktop",
}


class PretendedVolume(Demand):
    mount: str
    folder: str = Field(description="Folder below the stand-in that holds the volume's files")
    capacity: Bytes
    base_used: Bytes = Field(0, description="Bytes used by what is not laid out as files")
    file_system: str = ""
    disk: DiskKind = "ssd"
    name: str = ""
    identity: str = ""


class PretendedMachine(Demand):
    """What `machine.toml` says."""

    system: System
    host: str
    make: str = ""
    model: str = ""
    serial: str = ""
    processor: str = ""
    system_version: str = ""
    memory: Bytes | None = None
    people: tuple[str, ...] = ()
    volumes: Annotated[tuple[PretendedVolume, ...], Field(min_length=1)]
    programs_open: tuple[str, ...] = ()
    own_folders: tuple[str, ...] = Field(
        (), description="Folders that the shop may name, as its people write them"
    )
    files_in_use: tuple[str, ...] = Field((), description="Paths below the stand-in's folder")
    booted_at: AwareDatetime | None = Field(None, description="When it was started")
    items_per_second: float = Field(0, ge=0, description="How fast its disk is; 0: as fast as ours")
    on_battery: bool | None = Field(None, description="None: it has no battery")
    starting: PretendedStarting = PretendedStarting()


class PretendedThing(Demand):
    """Something in `things.json` that is no file: a restore point, a local snapshot."""

    source: Source
    name: str
    size: Bytes
    made: int | None = Field(description="Seconds since the Unix epoch; null: not known")
    group: str = ""
    mount: str = ""


_THINGS = TypeAdapter(list[PretendedThing])


class StandInMachine:
    """A pretended machine in a folder."""

    sizes_as_allocated = False
    counts_attributes = False
    keeps_people_apart = False

    def __init__(self, folder: Path) -> None:
        """ValueError (pydantic's) names what is wrong in the folder's state file."""
        self.folder = Path(os.path.realpath(folder))
        self._folder = str(self.folder)
        self._state = read_state(Path(self._folder))
        self.system = self._state.system
        self.trash_layout = _LAYOUTS[self.system]
        self.startup = Startup(
            self.folder, self._state.host, lambda: read_state(self.folder).starting
        )
        self.upkeep = StandInUpkeep(self.folder, self._state, self.startup)

    def facts(self) -> MachineFacts:
        state = self._state
        return MachineFacts(
            system=state.system,
            host=state.host,
            agent_version=__version__,
            kind="standin",
            memory=state.memory,
            make=state.make,
            model=state.model,
        )

    def booted_at(self) -> datetime | None:
        starts = self.startup.starts()
        return starts[-1].at if starts else read_state(Path(self._folder)).booted_at

    def _path(self, volume: PretendedVolume) -> str:
        return os.path.join(self._folder, volume.folder)

    def volumes(self) -> list[ReadingIn]:
        now = datetime.now(UTC)
        return [
            ReadingIn(
                mount=volume.mount,
                name=volume.name,
                capacity=volume.capacity,
                free=max(0, volume.capacity - volume.base_used - self._holds(volume)),
                at=now,
                file_system=volume.file_system,
                disk=volume.disk,
                identity=volume.identity,
            )
            for volume in self._state.volumes
        ]

    def _holds(self, volume: PretendedVolume) -> int:
        """The bytes of all files and things on a volume."""
        first = self._state.volumes[0].mount
        things = sum(t.size for t in self._things() if (t.mount or first) == volume.mount)
        return _length(self._path(volume)) + things

    def mount_at(self, path: str) -> str:
        return self._volume_at(path).mount

    def _volume_at(self, path: str) -> PretendedVolume:
        path += os.sep
        return next(v for v in self._state.volumes if path.startswith(self._path(v) + os.sep))

    def top_of(self, mount: str) -> str:
        return next(self._path(v) for v in self._state.volumes if v.mount == mount)

    def capacity_at(self, path: str) -> int:
        return self._volume_at(path).capacity

    def hold_folder(self, path: str, own: str) -> str:
        """On the pretended volume, so that what is held takes its space."""
        if _within(path, own):
            path = self._path(self._state.volumes[0])
        return os.path.join(self._path(self._volume_at(path)), HOLD)

    def locations(self, base: Folder) -> Iterator[Location]:
        if base == "volume-trash":
            yield from self._volume_trashes()
            return
        system_volume = self._state.volumes[0]
        for below in BELOW_TOP[self.system].get(base, ()):
            path = os.path.join(self._path(system_volume), below).rstrip("/")
            if os.path.isdir(path):
                yield Location(path, self._shown(system_volume, path))
        below_home = BELOW_HOME[self.system].get(base)
        if below_home is None:
            return
        for person, home in zip(self._state.people, self._homes(), strict=True):
            path = os.path.join(home, below_home).rstrip("/")
            if os.path.isdir(path):
                yield Location(path, self._shown(system_volume, path), person)

    def named_folder(self, shown: str) -> Location | None:
        wanted = _plain(shown)
        allowed = any(
            wanted == _plain(own) or wanted.startswith(_plain(own) + "/")
            for own in read_state(self.folder).own_folders
        )
        path = self.real_folder(shown)
        if path is None:
            return None
        if not allowed:
            why = "this machine does not let the shop name it (own_folders)"
            return Location(path, shown, why=why)
        return Location(path, shown)

    def real_folder(self, shown: str) -> str | None:
        written, wanted = shown.replace("\\", "/").rstrip("/"), _plain(shown)
        for volume in self._state.volumes:
            top = _plain(volume.mount)
            if wanted.startswith(top + "/") and ".." not in wanted.split("/"):
                path = os.path.realpath(self._path(volume) + written[len(top) :])
                inside = path.startswith(self._path(volume) + os.sep)
                return path if inside and os.path.isdir(path) else None
        return None

    def may_ask(self, path: str) -> bool:
        return True

    def things(self, source: Source) -> Iterator[Thing]:
        for thing in self._things():
            if thing.source == source:
                yield Thing(thing.name, thing.size, thing.made, thing.group, thing.mount)

    def let_go(self, source: Source, name: str, breathe: Callable[[], None] = lambda: None) -> None:
        """Strike a thing off the list, as the system it pretends to be would."""
        things = self._things()
        kept = [t for t in things if (t.source, t.name) != (source, name)]
        if len(kept) == len(things):
            raise FileNotFoundError(errno.ENOENT, "no such thing", name)
        path = self.folder / THINGS_FILE
        part = path.with_suffix(".part")
        part.write_bytes(_THINGS.dump_json(kept))
        part.replace(path)

    def programs(self) -> list[Program]:
        return self.startup.programs()

    def on_battery(self) -> bool | None:
        return read_state(Path(self._folder)).on_battery

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        return self.upkeep.check(kind, mode, watch)

    def act(
        self, action: Action, watch: Watch, cut_off: UnderWay | None = None
    ) -> Iterator[ActionPart]:
        return self.upkeep.act(action, watch)

    def restarting(self) -> StandInUpkeep:
        return self.upkeep

    def usable_after(self) -> float | None:
        return self.upkeep.usable_after()

    def failed_parts(self) -> Sequence[str] | None:
        return self.upkeep.failed_parts()

    def hands(self) -> SettingBackend:
        return LocalSettingBackend(str(self.folder))

    def switched(self, program: Program, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        return self.startup.switched(program, plan)

    def values(self) -> list[Seen]:
        return self.startup.values()

    def value_pieces(
        self, setting: str, of: str, value: Scalar, keeps: Sequence[str] = ()
    ) -> tuple[Piece, ...]:
        return self.startup.value_pieces(setting, of, value)

    def boot(self) -> str:
        starts = self.startup.starts()
        return starts[-1].boot if starts else "the first"

    def starts(self) -> Sequence[BootCost]:
        return self.startup.starts()

    def _things(self) -> list[PretendedThing]:
        try:
            return _THINGS.validate_json((self.folder / THINGS_FILE).read_bytes())
        except FileNotFoundError:
            return []

    def _volume_trashes(self) -> Iterator[Location]:
        for volume in self._state.volumes:
            if self.system is System.WINDOWS:
                parent = os.path.join(self._path(volume), "$Recycle.Bin")
                names = sorted(os.listdir(parent)) if os.path.isdir(parent) else []
            else:
                parent = self._path(volume)
                names = [n for n in sorted(os.listdir(parent)) if n.startswith(".Trash-")]
                if self.system is System.MACOS and os.path.isdir(os.path.join(parent, ".Trashes")):
                    names = [f".Trashes/{n}" for n in os.listdir(os.path.join(parent, ".Trashes"))]
            for name in names:
                path = os.path.join(parent, name)
                yield Location(path, self._shown(volume, path))

    def _shown(self, volume: PretendedVolume, path: str) -> str:
        below = os.path.relpath(path, self._path(volume))
        top = volume.mount if volume.mount != "/" else ""
        return self.join(top, below) if below != "." else volume.mount

    def in_use(self) -> InUse:
        state = read_state(Path(self._folder))
        files = set()
        for name in state.files_in_use:
            try:
                st = os.lstat(os.path.join(self._folder, name))
            except FileNotFoundError:
                continue
            files.add((st.st_dev, st.st_ino))
        return InUse(frozenset(files), frozenset(p.lower() for p in state.programs_open))

    def _homes(self) -> list[str]:
        top = os.path.join(self._path(self._state.volumes[0]), HOMES[self.system])
        return [os.path.join(top, person) for person in self._state.people]

    def sealed(self) -> Sequence[str]:
        own = _OWN_FOLDERS[self.system]
        folders = [os.path.join(home, folder) for home in self._homes() for folder in own]
        return [*folders, *(os.path.join(self._top, sealed) for sealed in _SEALED[self.system])]

    def openings(self) -> Sequence[str]:
        openings = [os.path.join(self._top, opening) for opening in _OPENINGS[self.system]]
        named = (self.named_folder(folder) for folder in self._state.own_folders)
        return [*openings, *(location.path for location in named if location)]

    @property
    def _top(self) -> str:
        return self._path(self._state.volumes[0])

    def roots(self) -> Sequence[str]:
        homes = os.path.join(self._top, HOMES[self.system])
        return (self._folder, *map(self._path, self._state.volumes), homes, *self._homes())

    def join(self, shown: str, below: str) -> str:
        if not below:
            return shown
        if self.system is System.WINDOWS:
            return f"{shown}\\{below.replace('/', chr(92))}"
        return f"{shown.rstrip('/')}/{below}"

    def pace(self, items: int) -> None:
        if self._state.items_per_second:
            time.sleep(items / self._state.items_per_second)


def read_state(folder: Path) -> PretendedMachine:
    return PretendedMachine.model_validate(
        tomllib.loads((folder / STATE_FILE).read_text(encoding="utf-8"))
    )


def _within(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder.rstrip(os.sep) + os.sep)


def _plain(shown: str) -> str:
    """A path as written by people, to compare: '/' between names, small letters."""
    return shown.replace("\\", "/").rstrip("/").lower()


def _length(path: str) -> int:
    """The lengths of all files below a folder, links not followed."""
    total = 0
    pending = [path]
    while pending:
        with os.scandir(pending.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    pending.append(entry.path)
                else:
                    total += entry.stat(follow_symlinks=False).st_size
    return total
