"""The Windows machine kind: this very machine, through its public interfaces.

People and their folders from the registry, the system's folders as known folders, volumes by the
Win32 interface. What is open nobody tells beforehand: the system refuses it, file by file.
"""

from __future__ import annotations

import errno
import ntpath
import os
import socket
import stat
import sys
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from functools import cached_property

import psutil

from phylax import __version__
from phylax.agent import files
from phylax.agent.files.stored_names import stored_path
from phylax.agent.machines import HOLD, InUse, Location, Thing, TrashLayout
from phylax.agent.machines.standin import BELOW_HOME
from phylax.agent.machines.upkeep import Restarting, Watch
from phylax.agent.machines.windows import keys, processes, registry, upkeep, values, volumes
from phylax.agent.machines.windows.startup import programs as startup
from phylax.agent.machines.windows.startup import services, switching
from phylax.agent.tuning.setting_backend import LocalSettingBackend, Port, SettingBackend
from phylax.core.actions import Action, ActionPart, UnderWay
from phylax.core.catalogue import Folder, Source
from phylax.core.checks.findings import Checked
from phylax.core.ground.machines import MachineFacts, System
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.values import Scalar
from phylax.core.inventory import Inventory
from phylax.core.tuning.pieces import Piece
from phylax.core.tuning.programs import Program, Switch
from phylax.core.tuning.starts import BootCost
from phylax.core.tuning.verdicts import Seen

assert sys.platform == "win32"

_PROGRAM_DATA = "{62AB5D82-FDC1-4DC3-A9DD-070D1D495D97}"
_COMMON_STARTUP = "{82A5EA35-D9CD-47C5-9629-E15D2F714E6E}"
_PUBLIC = "{DFDF76A2-C82A-4D63-906A-5644AC457385}"
_PROGRAMS = (
    "{905E63B6-C1BF-494E-B29C-65B732D3D21A}",
    "{7C5A40EF-A0FB-4BFC-874A-C0F2E0B9FA8E}",
)
_OPENINGS = (
    "Temp", "Logs", "Prefetch", "Minidump", "LiveKernelReports", "SoftwareDistribution",
    r"servicing\LCU", r"WinSxS\Temp\PendingDeletes", "ServiceProfiles",
)  # fmt: skip
"""Below the folder of Windows."""
_OWN = {
    "Personal": "Documents", "My Pictures": "Pictures", "Desktop": "Desktop", "My Music": "Music",
    "My Video": "Videos",
}  # fmt: skip
_BELOW_WINDOWS: dict[Folder, str] = {
    "system-folder": "", "system-temp": "Temp", "system-logs": "Logs",
}  # fmt: skip
_IMAGE = "hiberfil.sys"
_SAID: dict[Folder, str] = {
    "user-temp": "TEMP",
    "user-downloads": registry.DOWNLOADS,
    "user-local-data": "Local AppData",
    "user-roaming-data": "AppData",
}
"""Under which name the registry knows a person's folder."""


class WindowsMachine:
    """A real Windows machine."""

    system = System.WINDOWS
    trash_layout: TrashLayout = "recycle-bin"
    sizes_as_allocated = True
    counts_attributes = True
    keeps_people_apart = True

    def __init__(self, drives: Sequence[str] = (), own_folders: Sequence[str] = ()) -> None:
        """Look after all fixed drives, or only the given ones, as in 'C:'; `own_folders` are those
        that the shop may name here."""
        self._drives = tuple(drive.upper() for drive in drives)
        self._own_folders = tuple(own_folders)

    @cached_property
    def _windows(self) -> str:
        return volumes.windows_folder()

    @property
    def _system_drive(self) -> str:
        return ntpath.splitdrive(self._windows)[0].upper()

    def facts(self) -> MachineFacts:
        make, model = registry.make_and_model()
        return MachineFacts(
            system=self.system,
            host=socket.gethostname(),
            agent_version=__version__,
            kind="windows",
            memory=psutil.virtual_memory().total,
            make=make,
            model=model,
        )

    def booted_at(self) -> datetime | None:
        return datetime.fromtimestamp(psutil.boot_time(), UTC)

    def boot(self) -> str:
        return str(round(psutil.boot_time()))

    def starts(self) -> Sequence[BootCost]:
        return ()  # what belongs to which program is not measured here yet

    def volumes(self) -> list[ReadingIn]:
        """The system's first."""
        now = datetime.now(UTC)
        found = [v for v in volumes.fixed_volumes() if not self._drives or v.drive in self._drives]
        found.sort(key=lambda v: (v.drive != self._system_drive, v.drive))
        return [
            ReadingIn(
                mount=one.drive,
                name=one.name,
                capacity=one.capacity,
                free=one.free,
                at=now,
                file_system=one.file_system,
                disk="unknown",
                identity=one.identity,
            )
            for one in found
        ]

    def mount_at(self, path: str) -> str:
        return ntpath.splitdrive(ntpath.abspath(path))[0].upper()

    def top_of(self, mount: str) -> str:
        return f"{mount}\\"

    def capacity_at(self, path: str) -> int:
        found = volumes.volume(self.mount_at(path))
        return found.capacity if found else 0

    def hold_folder(self, path: str, own: str) -> str:
        if self.mount_at(path) == self.mount_at(own):
            return ntpath.join(own, "held")
        return ntpath.join(self.top_of(self.mount_at(path)), HOLD)

    def _people(self) -> Iterator[registry.Person]:
        for person in registry.people():
            on_drive = not self._drives or self.mount_at(person.home) in self._drives
            if on_drive and os.path.isdir(person.home):
                yield person

    def locations(self, base: Folder) -> Iterator[Location]:
        match base:
            case "system-volume":
                yield from _if_there(f"{self._system_drive}\\")
            case "volume-trash":
                yield from self._trashes()
            case "system-data":
                yield from _if_there(volumes.known_folder(_PROGRAM_DATA))
            case "public-home":
                yield from _if_there(volumes.known_folder(_PUBLIC))
            case _:
                if base in _BELOW_WINDOWS:
                    path = ntpath.join(self._windows, _BELOW_WINDOWS[base])
                    yield from _if_there(path.rstrip("\\"))
        below_home = BELOW_HOME[self.system].get(base)
        if below_home is None:
            return
        for person in self._people():
            usual = ntpath.join(person.home, *filter(None, below_home.split("/")))
            yield from _if_there(person.folders.get(_SAID.get(base, ""), usual), person.name)

    def named_folder(self, shown: str) -> Location | None:
        path = os.path.realpath(stored_path(shown))
        own_folders = map(stored_path, self._own_folders)
        allowed = (os.path.normcase(os.path.realpath(own)) for own in own_folders)
        plain = os.path.normcase(path)
        if not any(plain == own or plain.startswith(own + "\\") for own in allowed):
            why = "this machine does not let the shop name it (see its guard.toml)"
            return Location(path, shown, why=why) if os.path.lexists(shown) else None
        return next(_if_there(path), None)

    def _trashes(self) -> Iterator[Location]:
        """`$Recycle.Bin` at the top of every volume, in it a folder for each person."""
        names = {person.sid: person.name for person in self._people()}
        for reading in self.volumes():
            top = ntpath.join(self.top_of(reading.mount), "$Recycle.Bin")
            if not os.path.isdir(top):
                continue
            try:
                sids = sorted(os.listdir(top))
            except OSError as error:
                yield Location(top, top, why=error.strerror or str(error))
                continue
            for sid in sids:
                yield from _if_there(ntpath.join(top, sid), names.get(sid, sid))

    def real_folder(self, shown: str) -> str | None:
        stored = stored_path(shown)
        return os.path.realpath(stored) if os.path.isdir(stored) else None

    def may_ask(self, path: str) -> bool:
        return True

    def programs(self) -> list[Program]:
        return startup.programs(
            self._windows, volumes.known_folder(_COMMON_STARTUP), list(self._people())
        )

    def values(self) -> list[Seen]:
        return list(values.values(list(self._people())))

    def value_pieces(
        self, setting: str, of: str, value: Scalar, keeps: Sequence[str] = ()
    ) -> tuple[Piece, ...]:
        return values.pieces(setting, of, value, list(self._people()))

    def on_battery(self) -> bool | None:
        battery = psutil.sensors_battery()
        return None if battery is None else battery.power_plugged is False

    def hands(self) -> SettingBackend:
        kept: dict[str, Port] = {
            keys.PORT: keys.Registry(values.OURS, values.ABOVE),
            services.PORT: services.ServiceStarts(),
        }
        names = ("", *(person.name for person in self._people()))
        ports = {(name, port): kept[port] for name in names for port in kept}
        return LocalSettingBackend(os.path.abspath(os.sep), ports=ports)

    def switched(self, program: Program, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        return switching.pieces_of(
            plan, volumes.known_folder(_COMMON_STARTUP), list(self._people())
        )

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        return upkeep.check(self.facts(), kind)

    def act(
        self, action: Action, watch: Watch, cut_off: UnderWay | None = None
    ) -> Iterator[ActionPart]:
        raise OSError(errno.ENOTSUP, "is done by hand on Windows: see docs/actions.md")

    def restarting(self) -> Restarting:
        raise OSError(errno.ENOTSUP, "is restarted by hand: see docs/actions.md")

    def usable_after(self) -> float | None:
        """None: no public interface says."""
        return None

    def failed_parts(self) -> Sequence[str] | None:
        """None: the log of events is not asked."""
        return None

    def things(self, source: Source) -> Iterator[Thing]:
        match source:
            case "programs":
                yield from registry.programs()
            case "hibernation-image":
                yield from self._hibernation_image()
            case "restore-points":
                raise OSError(errno.ENOTSUP, "is looked at by hand on Windows: docs/windows.md")

    def _hibernation_image(self) -> Iterator[Thing]:
        """The image at the top of the system's volume, which nobody may open but all may see."""
        top = files.open_top(f"{self._system_drive}\\")
        try:
            found = files.look(_IMAGE, top)
        except FileNotFoundError:
            return
        finally:
            files.close(top)
        yield Thing(_IMAGE, found.st_blocks * 512, None)

    def let_go(self, source: Source, name: str, breathe: Callable[[], None] = lambda: None) -> None:
        raise OSError(errno.ENOTSUP, "is let go by hand on Windows: see docs/windows.md")

    def in_use(self) -> InUse:
        return InUse(programs=frozenset(processes.programs()))

    def sealed(self) -> Sequence[str]:
        system = [self._windows, *filter(None, map(volumes.known_folder, _PROGRAMS))]
        own = [
            person.folders.get(said, ntpath.join(person.home, usual))
            for person in self._people()
            for said, usual in _OWN.items()
        ]
        return [*system, *own]

    def openings(self) -> Sequence[str]:
        return [*(ntpath.join(self._windows, below) for below in _OPENINGS), *self._own_folders]

    def roots(self) -> Sequence[str]:
        homes = [person.home for person in self._people()]
        tops = [self.top_of(reading.mount) for reading in self.volumes()]
        roots = [*tops, *{ntpath.dirname(home) for home in homes}, *homes]
        return list(map(os.path.realpath, roots))

    def join(self, shown: str, below: str) -> str:
        return ntpath.join(shown, *below.split("/")) if below else shown

    def pace(self, items: int) -> None:
        """A real disk needs no pretending."""


def _if_there(path: str | None, user: str = "") -> Iterator[Location]:
    """A folder as a location: none where there is no such folder, or a link in its stead."""
    if path is None or not os.path.isdir(path):
        return
    # links above it are the machine's own way of keeping things elsewhere: resolved here, once
    shown = path
    path = ntpath.join(os.path.realpath(ntpath.dirname(path)), ntpath.basename(path))
    if os.lstat(path).st_file_attributes & stat.FILE_ATTRIBUTE_REPARSE_POINT:
        return
    yield Location(path, shown, user)
