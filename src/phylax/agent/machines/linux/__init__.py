"""The Linux machine kind: this very machine, through its public interfaces.

People from the user database, locations by the XDG base directory and user directory conventions
and the Filesystem Hierarchy Standard.
"""

from __future__ import annotations

import errno
import os
import platform
import pwd
import socket
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime

import psutil

from phylax import __version__
from phylax.agent.machines import HOLD, InUse, Location, Thing, TrashLayout
from phylax.agent.machines.linux import revisions, starts, system_manager
from phylax.agent.machines.linux import upkeep as of_upkeep
from phylax.agent.machines.linux.actions.restarting import LogindRestart
from phylax.agent.machines.linux.in_use import locked_files, open_files, programs
from phylax.agent.machines.linux.locations import (
    folder_location,
    one_mount,
    personal_locations,
    real_home,
    shown_mount,
    trash_on,
)
from phylax.agent.machines.linux.mounts import (
    Mount,
    disk_kind,
    folder_behind,
    identity_of,
    mount_of,
    mount_over,
    mounts,
    space_of,
)
from phylax.agent.machines.linux.packages import Packages
from phylax.agent.machines.linux.startup import programs as startup
from phylax.agent.machines.linux.startup.of_person import OfPerson, starters_of
from phylax.agent.machines.linux.startup.switching import pieces_of_person, pieces_of_units
from phylax.agent.machines.linux.upkeep import HOMES_ONLY, Upkeep, quick_places
from phylax.agent.machines.linux.user_dirs import user_dirs
from phylax.agent.machines.linux.values import browsers, bus, power, processor, update_times
from phylax.agent.machines.linux.values.persons import PersonsValues
from phylax.agent.machines.upkeep import Watch
from phylax.agent.platform.uptime import running
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

_SYSTEM_FOLDERS = (
    "/bin", "/boot", "/dev", "/etc", "/lib", "/lib64", "/opt", "/proc", "/sbin", "/srv", "/sys",
    "/usr", "/var/lib", "/var/mail", "/var/spool",
)  # fmt: skip
_OPENINGS = ("/var/lib/systemd/coredump",)
_SYSTEM: dict[Folder, tuple[str, ...]] = {
    "system-temp": ("tmp", "var/tmp"),
    "system-cache": ("var/cache",),
    "system-logs": ("var/log",),
    "crash-reports": ("var/crash", "var/lib/systemd/coredump"),
    "journal": ("var/log/journal", "run/log/journal"),
}
"""Below the system's root."""
FIRST_PERSON = 1000
SYSTEM_OWNERS = range(FIRST_PERSON)
"""User numbers of the system itself and its services."""
LAST_PERSON = 60000


class LinuxMachine:
    """A real Linux machine."""

    system = System.LINUX
    trash_layout: TrashLayout = "freedesktop"
    sizes_as_allocated = True
    counts_attributes = True
    keeps_people_apart = True

    def __init__(
        self,
        homes: Sequence[str] = (),
        *,
        root: str | None = None,
        own_folders: Sequence[str] = (),
        packages_socket: str = revisions.SOCKET,
        system_bus: str = bus.SYSTEM,
        scanner: str = "",
    ) -> None:
        """Look after everyone's home and the system, or only after the given homes and the volumes
        they are on. `root` is where the system's folders begin, if not at '/'; `own_folders` are
        those that the shop may name here."""
        self._homes = tuple(map(real_home, homes))
        self._root = root or (None if homes else "/")
        self._own_folders = tuple(
            folder_behind(folder) or os.path.normpath(folder) for folder in own_folders
        )
        self._packages_socket = packages_socket
        self._power = power.PowerProfile(system_bus)
        self._system_bus, self._scanner = system_bus, scanner

    def facts(self) -> MachineFacts:
        return MachineFacts(
            system=self.system,
            host=socket.gethostname(),
            agent_version=__version__,
            kind="linux",
            memory=psutil.virtual_memory().total,
            make=_dmi("sys_vendor"),
            model=_dmi("product_name"),
        )

    def booted_at(self) -> datetime | None:
        return datetime.fromtimestamp(psutil.boot_time(), UTC)

    def boot(self) -> str:
        return starts.boot()

    def starts(self) -> Sequence[BootCost]:
        """The one under way, in the minute in which its first ten are over."""
        uptime = running()
        if not starts.is_time(uptime):
            return ()
        return (starts.cost("/", self.programs(), datetime.now(UTC), uptime),)

    system_owners: range | None = SYSTEM_OWNERS
    """Whose things may go in the system's own places; None: everyone's, as far as rights go."""

    def people(self) -> Iterator[tuple[str, int, str]]:
        """(name, user number, home) of everyone looked after."""
        if self._homes:
            for home in self._homes:
                if os.path.isdir(home):
                    yield os.path.basename(home), os.stat(home).st_uid, home
            return
        for entry in pwd.getpwall():
            is_person = FIRST_PERSON <= entry.pw_uid <= LAST_PERSON or entry.pw_uid == 0
            if is_person and os.path.isdir(entry.pw_dir):
                yield entry.pw_name, entry.pw_uid, os.path.realpath(entry.pw_dir)

    def _mounts(self) -> list[Mount]:
        known = mounts()
        if self._homes:
            devices = {mount_over(home).device for home in self._homes}
            known = [mount for mount in known if mount.device in devices]
        return known

    def volumes(self) -> list[ReadingIn]:
        now = datetime.now(UTC)
        readings = []
        for mount in self._mounts():
            space = space_of(mount)
            if space is None:
                continue
            readings.append(
                ReadingIn(
                    mount=shown_mount(mount.path),
                    capacity=space.capacity,
                    free=space.free,
                    at=now,
                    file_system=mount.file_system,
                    disk=disk_kind(mount.device),
                    identity=identity_of(mount.device),
                )
            )
        return readings

    def mount_at(self, path: str) -> str:
        return shown_mount(mount_of(path))

    def top_of(self, mount: str) -> str:
        return next((m.path for m in mounts() if shown_mount(m.path) == mount), mount)

    def capacity_at(self, path: str) -> int:
        space = os.statvfs(path)
        return space.f_blocks * space.f_frsize

    def hold_folder(self, path: str, own: str) -> str:
        mount = mount_over(path)
        if mount == mount_over(own):
            return os.path.join(own, "held")
        # where a name is given across a bind mount of the same disk, the system refuses it
        return os.path.join(mount.path, HOLD)

    def locations(self, base: Folder) -> Iterator[Location]:
        if base == "volume-trash":
            yield from self._volume_trashes()
            return
        if self._root is not None:
            for below in _SYSTEM.get(base, ()):
                for location in folder_location(os.path.join(self._root, below)):
                    location = replace(
                        location, owners=self.system_owners, is_shared=base == "system-temp"
                    )
                    yield one_mount(self._root, location)
        for name, uid, home in self.people():
            yield from personal_locations(base, name, uid, home)

    def named_folder(self, shown: str) -> Location | None:
        path = folder_behind(shown)
        if path is None:
            if mount_over(os.path.normpath(shown)).answers:
                return None
            return Location(shown, shown, why="its volume is a network drive, or may not answer")
        if not any(path == own or path.startswith(own + "/") for own in self._own_folders):
            why = "this machine does not let the shop name it (see its agent.toml)"
            return Location(path, shown, why=why)
        return next(folder_location(path), None)

    def real_folder(self, shown: str) -> str | None:
        return folder_behind(shown)

    def may_ask(self, path: str) -> bool:
        return mount_over(os.path.normpath(path)).answers

    @property
    def root(self) -> str:
        """Where the system's folders begin."""
        return self._root or "/"

    def _own_people(self) -> list[tuple[str, str]]:
        """(name, home) of those whose files are within the agent's own rights: other people's are
        read and written with theirs only."""
        return [(name, home) for name, uid, home in self.people() if uid == os.geteuid()]

    def _scanned_homes(self) -> list[str]:
        """Homes whose files may be handed to a scanner, to be read."""
        return [home for _, _, home in self.people()]

    def programs(self) -> list[Program]:
        return self.programs_with(
            [s for name, home in self._own_people() for s in starters_of(name, home, self.root)]
        )

    def programs_with(self, people: Sequence[OfPerson]) -> list[Program]:
        """The system's, and what people's own workers said of theirs; theirs alone where only some
        homes are looked after."""
        programs = startup.programs(self.root, people)
        if self._root is not None:
            return programs
        return [own for program in programs if (own := _of_people(program)).starters]

    def values(self) -> list[Seen]:
        own_values = [seen for own in self._own_values() for seen in own.values()]
        if self._root is None:
            return own_values
        machines = (
            *update_times.values(self.root),
            *browsers.values(self.root),
            *self._power.values(),
            *processor.KernelValues(self.root).values(),
        )
        return [*machines, *own_values]

    def value_pieces(
        self, setting: str, of: str, value: Scalar, keeps: Sequence[str] = ()
    ) -> tuple[Piece, ...]:
        if of:
            for own in self._own_values():
                if own.person == of:
                    return own.pieces(setting, value)
        elif self._root is None:
            raise OSError(errno.ENOTSUP, HOMES_ONLY, setting)
        elif setting == update_times.SETTING:
            return update_times.pieces(self.root, str(value))
        elif setting == browsers.SETTING:
            return browsers.pieces(self.root, bool(value), keeps)
        elif setting == power.SETTING:
            return self._power.pieces(str(value))
        elif setting in processor.SETTINGS:
            return processor.KernelValues(self.root).pieces(setting, int(value))
        raise OSError(errno.ENOTSUP, "is not set on this machine", setting)

    def on_battery(self) -> bool | None:
        battery = psutil.sensors_battery()
        return None if battery is None else battery.power_plugged is False

    def hands(self) -> SettingBackend:
        homes = dict(self._own_people())
        ports: dict[tuple[str, str], Port] = {
            ("", power.PORT): self._power,
            ("", processor.PORT): processor.KernelValues(self.root),
        }
        for own in self._own_values():
            ports |= {(own.person, name): port for name, port in own.ports.items()}
        return LocalSettingBackend(self.root, homes, ports)

    def _own_values(self) -> Iterator[PersonsValues]:
        """Settings of those whom the agent is; root has no desktop of its own."""
        uid = os.geteuid()
        if uid != 0:
            for name, home in self._own_people():
                yield PersonsValues(name, uid, home)

    def switched(self, program: Program, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        """Links of units below the root, and what is of the agent's own account."""
        if self._root is None and any(not switch.starter.person for switch in plan):
            raise OSError(errno.ENOTSUP, HOMES_ONLY, program.key)
        pieces = pieces_of_units(self.root, plan)
        for name, home in self._own_people():
            pieces += pieces_of_person(home, plan, name, self.root)
        return pieces

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        return of_upkeep.check(self._upkeep(), kind, mode, watch)

    def act(
        self, action: Action, watch: Watch, cut_off: UnderWay | None = None
    ) -> Iterator[ActionPart | UnderWay]:
        return of_upkeep.act(self._upkeep(), action, watch, cut_off)

    def restarting(self) -> LogindRestart:
        if self._root is None:
            raise OSError(errno.ENOTSUP, HOMES_ONLY)
        return LogindRestart(self._system_bus)

    def usable_after(self) -> float | None:
        return system_manager.usable_after(self._system_bus)

    def failed_parts(self) -> Sequence[str] | None:
        return system_manager.failed_parts(self._system_bus)

    def _upkeep(self) -> Upkeep:
        facts = self.facts()
        looked_after = [mount for mount in self._mounts() if mount.answers]
        return Upkeep(
            root=self.root,
            asks_system=self._root is not None,
            volumes=[(mount, shown_mount(mount.path)) for mount in looked_after],
            system_bus=self._system_bus,
            make=facts.make,
            model=facts.model,
            memory=facts.memory or 0,
            homes=list(self._own_people()),
            scanned=quick_places(self.root, self._scanned_homes()),
            scanner=self._scanner,
        )

    def things(self, source: Source) -> Iterator[Thing]:
        if self._root is None:
            return
        match source:
            case "package-revisions":
                yield from revisions.revisions(self._packages_socket)
            case "old-kernels":
                yield from Packages(self._root).kernels(platform.release())
            case "programs":
                yield from Packages(self._root).programs()

    def let_go(self, source: Source, name: str, breathe: Callable[[], None] = lambda: None) -> None:
        if source == "package-revisions":
            revisions.remove(name, self._packages_socket, breathe=breathe)
            return
        if source == "old-kernels" and self._root is not None:
            Packages(self._root).remove_kernel(name, platform.release(), breathe)
            return
        raise OSError(errno.ENOTSUP, "is let go by hand on this system")

    def _volume_trashes(self) -> Iterator[Location]:
        """Trash folders at the top of volumes, by the freedesktop.org Trash specification 1.0.

        `$topdir/.Trash/$uid` counts only where `.Trash` is no link and has its sticky bit set.
        """
        for mount in self._mounts():
            for name, uid, _ in self.people():
                yield from trash_on(mount, name, uid)

    def in_use(self) -> InUse:
        return InUse(
            files=frozenset(open_files()).union(locked_files()), programs=frozenset(programs())
        )

    def sealed(self) -> Sequence[str]:
        people = self.people()
        own = (folder for _, uid, home in people for folder in user_dirs(home, uid).sealed)
        return (*_SYSTEM_FOLDERS, *own)

    def openings(self) -> Sequence[str]:
        return (*_OPENINGS, *self._own_folders)

    def roots(self) -> Sequence[str]:
        """Volumes and homes are never cleaned as a whole; the system's own places are, also where
        they, or folders in them, have volumes of their own: no walk crosses to another."""
        own = [os.path.join(self.root, place) for places in _SYSTEM.values() for place in places]
        volumes = (
            mount.path for mount in mounts()
            if not any(mount.path == place or mount.path.startswith(f"{place}/") for place in own)
        )  # fmt: skip
        return ("/home", *volumes, *(home for _, _, home in self.people()))

    def join(self, shown: str, below: str) -> str:
        return os.path.join(shown, below) if below else shown

    def pace(self, items: int) -> None:
        """A real disk needs no pretending."""


def _of_people(program: Program) -> Program:
    """A program as far as it is started for people."""
    starters = tuple(starter for starter in program.starters if starter.person)
    return program.model_copy(update={"starters": starters})


def _dmi(field: str) -> str:
    try:
        with open(f"/sys/class/dmi/id/{field}", encoding="utf-8", errors="replace") as file:
            return file.read().strip()[:120]
    except OSError:
        return platform.machine() if field == "product_name" else ""
