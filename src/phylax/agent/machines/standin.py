"""The stand-in: a folder that pretends to be a whole machine, of any system.

`machine.toml` in the folder says what it pretends to be (see docs/stand-in.md); each volume is a
folder of sparse files with a capacity of its own. The real engine works on it, so that every system
can be tried where none of them runs.
"""

from __future__ import annotations

import os
import time
import tomllib
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

from pydantic import Field

from phylax import __version__
from phylax.agent.machines import InUse, Location, TrashLayout
from phylax.core.catalogue import Base
from phylax.core.shop import DiskKind, MachineFacts, ReadingIn, System
from phylax.core.values import Bytes, Demand

STATE_FILE = "machine.toml"

_BELOW_HOME: dict[System, dict[Base, str]] = {
    System.WINDOWS: {
        "user-temp": "AppData/Local/Temp",
        "user-downloads": "Downloads",
        "user-local-data": "AppData/Local",
    },
    System.MACOS: {
        "user-temp": "Library/Caches/TemporaryItems",
        "user-trash": ".Trash",
        "user-downloads": "Downloads",
        "user-cache": "Library/Caches",
    },
    System.LINUX: {
        "user-temp": ".tmp",
        "user-trash": ".local/share/Trash",
        "user-downloads": "Downloads",
        "user-cache": ".cache",
    },
}
_HOMES = {System.WINDOWS: "Users", System.MACOS: "Users", System.LINUX: "home"}
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


class PretendedMachine(Demand):
    """What `machine.toml` says."""

    system: System
    host: str
    make: str = ""
    model: str = ""
    memory: Bytes | None = None
    people: tuple[str, ...] = ()
    volumes: Annotated[tuple[PretendedVolume, ...], Field(min_length=1)]
    programs_open: tuple[str, ...] = ()
    files_in_use: tuple[str, ...] = Field((), description="Paths below the stand-in's folder")
    items_per_second: float = Field(0, ge=0, description="How fast its disk is; 0: as fast as ours")


class StandInMachine:
    """A pretended machine in a folder."""

    sizes_as_allocated = False

    def __init__(self, folder: Path) -> None:
        """ValueError (pydantic's) names what is wrong in the folder's state file."""
        self.folder = Path(os.path.realpath(folder))
        self._folder = str(self.folder)
        self._state = read_state(Path(self._folder))
        self.system = self._state.system
        self.trash_layout = _LAYOUTS[self.system]

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

    def _path(self, volume: PretendedVolume) -> str:
        return os.path.join(self._folder, volume.folder)

    def volumes(self) -> list[ReadingIn]:
        now = datetime.now(UTC)
        return [
            ReadingIn(
                mount=volume.mount,
                name=volume.name,
                capacity=volume.capacity,
                free=max(0, volume.capacity - volume.base_used - _length(self._path(volume))),
                at=now,
                file_system=volume.file_system,
                disk=volume.disk,
            )
            for volume in self._state.volumes
        ]

    def mount_at(self, path: str) -> str:
        return next(v.mount for v in self._state.volumes if path.startswith(self._path(v) + os.sep))

    def locations(self, base: Base) -> Iterator[Location]:
        if base == "volume-trash":
            yield from self._volume_trashes()
            return
        below = _BELOW_HOME[self.system].get(base)
        if below is None:
            return
        system_volume = self._state.volumes[0]
        for person, home in zip(self._state.people, self._homes(), strict=True):
            path = os.path.join(home, below)
            if os.path.isdir(path):
                yield Location(path, self._shown(system_volume, path), person)

    def _volume_trashes(self) -> Iterator[Location]:
        for volume in self._state.volumes:
            if self.system is System.WINDOWS:
                parent = os.path.join(self._path(volume), "$Recycle.Bin")
                names = sorted(os.listdir(parent)) if os.path.isdir(parent) else []
            else:
                parent = self._path(volume)
                names = [n for n in sorted(os.listdir(parent)) if n.startswith(".Trash-")]
            for name in names:
                path = os.path.join(parent, name)
                yield Location(path, self._shown(volume, path))

    def _shown(self, volume: PretendedVolume, path: str) -> str:
        below = os.path.relpath(path, self._path(volume))
        return self.join(volume.mount if volume.mount != "/" else "", below)

    def in_use(self) -> InUse:
        state = read_state(Path(self._folder))
        files = set()
        for name in state.files_in_use:
            try:
                found = os.lstat(os.path.join(self._folder, name))
            except FileNotFoundError:
                continue
            files.add((found.st_dev, found.st_ino))
        return InUse(frozenset(files), frozenset(p.lower() for p in state.programs_open))

    def _homes(self) -> list[str]:
        top = os.path.join(self._path(self._state.volumes[0]), _HOMES[self.system])
        return [os.path.join(top, person) for person in self._state.people]

    def sealed(self) -> Sequence[str]:
        own = _OWN_FOLDERS[self.system]
        return [os.path.join(home, folder) for home in self._homes() for folder in own]

    def roots(self) -> Sequence[str]:
        return (self._folder, *map(self._path, self._state.volumes), *self._homes())

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
