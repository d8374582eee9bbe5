"""What a stand-in has, lacks and does when it is asked: `upkeep.json` says, and is altered by it.

Without the file nothing is missing, nothing is installed, and its disks are as `machine.toml` has
them.
"""

from __future__ import annotations

import errno
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Protocol

from pydantic import Field, ValidationError

from phylax.agent.machines.standin_checks import pretended_checks, repair
from phylax.agent.machines.standin_startup import Startup
from phylax.agent.machines.upkeep import Watch
from phylax.core.actions import (
    ActEnd,
    Action,
    ActionPart,
    ArrangeDisks,
    ClearNameCache,
    InstallUpdates,
    RemoveProgram,
    RepairFileSystem,
    TryRemoval,
)
from phylax.core.checks.findings import Checked, Finding, Severity, could_not_look, looked
from phylax.core.ground.quantities import count, show_size
from phylax.core.ground.values import Bytes, Demand, Moment
from phylax.core.inventory import (
    DisksListed,
    DriversListed,
    HardwareListed,
    Inventory,
    ProgramsListed,
    UpdatesListed,
)
from phylax.core.inventory.disks import DiskFacts, Treatment, VolumeOnDisk, judged
from phylax.core.inventory.drivers import Driver
from phylax.core.inventory.hardware import MemorySlot
from phylax.core.inventory.programs import Along, InstalledProgram, Removal, RemovalTried, of_trials
from phylax.core.inventory.updates import Update, of_missing
from phylax.core.tuning.starts import BootCost

UPKEEP_FILE = "upkeep.json"
_STEP = 0.1
_FACTS = {
    "ssd": DiskFacts(spins=False, gives_back=True, turns=0),
    "spinning": DiskFacts(spins=True, gives_back=False, turns=5400),
}


class PretendedDisk(Demand):
    """How files lie on a volume."""

    facts: DiskFacts | None = Field(None, description="None: as the volume's disk is")
    files: int = 0
    pieces: int = 0
    snapshots: bool = False
    free_blocks: Bytes = Field(0, description="What a solid-state disk was not told yet")


class PretendedRestart(Demand):
    """What a restart comes to."""

    seconds: float = Field(0, ge=0, le=3600, description="From the warning's end to being back")
    comes_back: bool = True
    after_seconds: float | None = Field(
        None, description="It restarts so soon, whatever time was agreed: somebody at it says now"
    )
    blocked_by: tuple[str, ...] = Field((), description="What must not be ended")
    put_off: int = Field(0, description="How often somebody at it still puts it off")
    usable_after: float | None = None
    failed_parts: tuple[str, ...] = ()
    at: Moment | None = Field(None, description="When it is to restart")
    is_off: bool = False


class PretendedUpkeep(Demand):
    """What `upkeep.json` says."""

    updates: tuple[Update, ...] = ()
    updates_unread: str = ""
    seconds_each: float = Field(0, ge=0, le=600, description="For one update")
    failing: tuple[str, ...] = Field((), description="Updates that fail")
    programs: tuple[InstalledProgram, ...] = ()
    needs: dict[str, tuple[str, ...]] = Field({}, description="What goes with which program")
    gone_for_good: tuple[str, ...] = Field((), description="Programs that cannot be had again")
    drivers: tuple[Driver, ...] = ()
    most_memory: Bytes | None = None
    slots: tuple[MemorySlot, ...] = ()
    pressed: float | None = None
    disks: dict[str, PretendedDisk] = Field({}, description="By volume")
    seconds_arranging: float = Field(0, ge=0, le=600)
    files: int = Field(2000, ge=0, description="That a full scan reads; a quick one a tenth")
    files_per_second: float = Field(0, ge=0)
    malware: tuple[Finding, ...] = ()
    system_files: tuple[Finding, ...] = ()
    condition: tuple[Finding, ...] = ()
    browsers: dict[str, tuple[Finding, ...]] = Field({}, description="By person")
    repair_waits: tuple[str, ...] = ()
    restart_waits: str = ""
    restart: PretendedRestart = PretendedRestart()


class _Volume(Protocol):
    @property
    def mount(self) -> str: ...
    @property
    def disk(self) -> str: ...
    @property
    def file_system(self) -> str: ...


class _State(Protocol):
    """What is asked of the stand-in's own file."""

    @property
    def volumes(self) -> tuple[_Volume, ...]: ...
    @property
    def make(self) -> str: ...
    @property
    def model(self) -> str: ...
    @property
    def serial(self) -> str: ...
    @property
    def processor(self) -> str: ...
    @property
    def system_version(self) -> str: ...
    @property
    def memory(self) -> int | None: ...


def read_upkeep(folder: Path) -> PretendedUpkeep:
    """OSError where the file is none."""
    try:
        return PretendedUpkeep.model_validate_json((folder / UPKEEP_FILE).read_bytes())
    except FileNotFoundError:
        return PretendedUpkeep()
    except ValidationError as failure:
        raise OSError(errno.EINVAL, f"{UPKEEP_FILE} is wrong: {failure}"[:300]) from None


def write_upkeep(folder: Path, upkeep: PretendedUpkeep) -> None:
    path = folder / UPKEEP_FILE
    part = path.with_suffix(".part")
    part.write_text(upkeep.model_dump_json(exclude_defaults=True, indent=1), encoding="utf-8")
    part.replace(path)


class StandInUpkeep:
    """A stand-in's checks beyond disks, and its actions."""

    def __init__(self, folder: Path, state: _State, startup: Startup) -> None:
        self._folder = folder
        self._state = state
        self._startup = startup

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        if kind in ("file-system", "disk-health"):
            yield from pretended_checks(self._folder, kind, self._state, watch)
            return
        upkeep, started = read_upkeep(self._folder), datetime.now(UTC)
        match kind:
            case "malware":
                files = upkeep.files if mode == "full" else upkeep.files // 10
                _works(files, upkeep.files_per_second, watch)
                yield looked(kind, "", started, upkeep.malware, units=files, mode=mode or "quick")
            case "updates":
                yield self._updates(upkeep, started)
                if upkeep.updates_unread:
                    yield could_not_look(kind, "", started, upkeep.updates_unread)
                else:
                    missing = of_missing(upkeep.updates)
                    yield looked(kind, "", started, missing, units=len(upkeep.updates))
            case "programs":
                yield ProgramsListed(taken_at=started, programs=upkeep.programs)
                yield looked(
                    kind, "", started, of_trials(upkeep.programs), units=len(upkeep.programs)
                )
            case "drivers":
                yield DriversListed(taken_at=started, drivers=upkeep.drivers)
                bare = [
                    Finding(
                        severity=Severity.WARNING, what="A device without a driver",
                        where=driver.device,
                    )
                    for driver in upkeep.drivers if not driver.driver
                ]  # fmt: skip
                yield looked(kind, "", started, bare, units=len(upkeep.drivers))
            case "hardware":
                state = self._state
                yield HardwareListed(
                    taken_at=started, make=state.make, model=state.model, serial=state.serial,
                    processor=state.processor, system_version=state.system_version,
                    memory=state.memory,
                    most_memory=upkeep.most_memory, slots=upkeep.slots, pressed=upkeep.pressed,
                )  # fmt: skip
                yield looked(kind, "", started, [], units=len(upkeep.slots))
            case "fragmentation":
                volumes = [self._lie_of(upkeep, volume) for volume in self._state.volumes]
                for volume in volumes:
                    yield looked(kind, volume.volume, started, [], units=volume.files or 0)
                yield DisksListed(taken_at=started, volumes=tuple(volumes))
            case "system-files":
                yield looked(kind, "", started, upkeep.system_files)
            case "browsers":
                for name, findings in upkeep.browsers.items():
                    yield looked(kind, name, started, findings)
                if not upkeep.browsers:
                    yield looked(kind, "", started, ())
            case "condition":
                yield looked(kind, "", started, upkeep.condition)
            case _:
                raise OSError(errno.ENOTSUP, "is not pretended", kind)

    def _updates(self, upkeep: PretendedUpkeep, at: datetime) -> UpdatesListed:
        if upkeep.updates_unread:
            return UpdatesListed(taken_at=at, unread=upkeep.updates_unread)
        return UpdatesListed(
            taken_at=at, updates=upkeep.updates, restart_waits=upkeep.restart_waits
        )

    def _lie_of(self, upkeep: PretendedUpkeep, volume: _Volume) -> VolumeOnDisk:
        disk = upkeep.disks.get(volume.mount, PretendedDisk())
        facts = disk.facts or _FACTS.get(volume.disk, DiskFacts())
        return VolumeOnDisk(
            volume=volume.mount, file_system=volume.file_system, disk=volume.disk, facts=facts,
            snapshots=disk.snapshots, files=disk.files, pieces=disk.pieces,
            judgement=judged(facts, volume.file_system, snapshots=disk.snapshots),
        )  # fmt: skip

    # --- actions ---------------------------------------------------------------------------------

    def act(self, action: Action, watch: Watch) -> Iterator[ActionPart]:
        match action:
            case RepairFileSystem():
                yield self._repair(action.volume)
            case ArrangeDisks():
                yield from self._arrange(action, watch)
            case InstallUpdates():
                yield from self._install(action, watch)
            case TryRemoval():
                tried = self._tried(action.program, action.version)
                end = ActEnd.REFUSED if tried.refused else ActEnd.DONE
                yield ActionPart(target=action.program, end=end, why=tried.refused, tried=tried)
            case RemoveProgram():
                yield from self._remove(action)
            case ClearNameCache():
                yield ActionPart(target="", end=ActEnd.DONE, after="names are asked anew")
            case _:
                raise OSError(errno.ENOTSUP, "is not pretended", action.action)

    def _alter(self, **changes: object) -> None:
        upkeep = read_upkeep(self._folder)
        write_upkeep(self._folder, upkeep.model_copy(update=changes))

    def _repair(self, volume: str) -> ActionPart:
        upkeep = read_upkeep(self._folder)
        if volume not in {known.mount for known in self._state.volumes}:
            return ActionPart(target=volume, end=ActEnd.REFUSED, why="there is no such volume here")
        if volume in upkeep.repair_waits:
            why = "it waits for the next start already"
            return ActionPart(target=volume, end=ActEnd.NOTHING, why=why)
        self._alter(repair_waits=(*upkeep.repair_waits, volume))
        return ActionPart(
            target=volume, end=ActEnd.DONE, after="repaired at the next start", needs_restart=True
        )

    def _arrange(self, action: ArrangeDisks, watch: Watch) -> Iterator[ActionPart]:
        wanted = [
            volume for volume in self._state.volumes
            if volume.mount in (action.volumes or (volume.mount,))
        ]  # fmt: skip
        for number, volume in enumerate(wanted):
            watch(number, len(wanted))
            upkeep = read_upkeep(self._folder)
            lie = self._lie_of(upkeep, volume)
            disk = upkeep.disks.get(volume.mount, PretendedDisk())
            if lie.judgement.treatment is Treatment.NONE:
                yield ActionPart(target=volume.mount, end=ActEnd.REFUSED, why=lie.judgement.why)
                continue
            if lie.judgement.treatment is Treatment.GATHER and disk.pieces <= disk.files:
                yield ActionPart(target=volume.mount, end=ActEnd.NOTHING, why="its files lie whole")
                continue
            _takes(upkeep.seconds_arranging, watch)
            if lie.judgement.treatment is Treatment.GATHER:
                before = f"{count(disk.pieces, 'piece')} of {count(disk.files, 'file')}"
                gathered = disk.model_copy(update={"pieces": disk.files})
                after = count(disk.files, "piece")
            else:
                before = ""
                gathered = disk.model_copy(update={"free_blocks": 0})
                after = f"{show_size(disk.free_blocks)} of free blocks given back"
            self._alter(disks={**upkeep.disks, volume.mount: gathered})
            yield ActionPart(target=volume.mount, end=ActEnd.DONE, before=before, after=after)

    def _install(self, action: InstallUpdates, watch: Watch) -> Iterator[ActionPart]:
        upkeep = read_upkeep(self._folder)
        if upkeep.updates_unread:
            yield ActionPart(target="", end=ActEnd.FAILED, why=upkeep.updates_unread)
            return
        wanted = [
            update for update in upkeep.updates
            if (update.security or not action.only_security)
            and (not action.names or update.name in action.names)
        ]  # fmt: skip
        if not wanted:
            yield ActionPart(target="", end=ActEnd.NOTHING, why="nothing is missing")
        for number, update in enumerate(wanted):
            watch(number, len(wanted))
            if update.held_back:
                yield ActionPart(target=update.name, end=ActEnd.REFUSED, why=update.held_back)
                continue
            _takes(upkeep.seconds_each, watch)
            if update.name in upkeep.failing:
                why = "its installer gave up"
                yield ActionPart(target=update.name, end=ActEnd.FAILED, before=update.now, why=why)
                continue
            now = read_upkeep(self._folder)
            waits = "updates that were installed ask for it" if update.restart else ""
            self._alter(
                updates=tuple(other for other in now.updates if other.name != update.name),
                programs=tuple(
                    program.model_copy(update={"version": update.version})
                    if program.name == update.name else program
                    for program in now.programs
                ),
                restart_waits=waits or now.restart_waits,
            )  # fmt: skip
            yield ActionPart(
                target=update.name, end=ActEnd.DONE, before=update.now, after=update.version,
                needs_restart=update.restart,
            )  # fmt: skip

    def _tried(self, key: str, version: str) -> RemovalTried:
        upkeep = read_upkeep(self._folder)
        programs = {program.key: program for program in upkeep.programs}

        def refused(why: str) -> RemovalTried:
            return RemovalTried(program=key, version=version, can_come_back=False, refused=why)

        program = programs.get(key)
        if program is None:
            return refused("it is not installed")
        if program.version != version:
            return refused(f"it is of version {program.version} by now")
        goes = [program, *(programs[k] for k in upkeep.needs.get(key, ()) if k in programs)]
        if kept := [other for other in goes if other.removal is Removal.NEVER]:
            return refused(f"the system needs {kept[0].name}")
        if by_hand := [other for other in goes if other.removal is Removal.BY_HAND]:
            return refused(f"{by_hand[0].name} is removed by hand: its own remover asks questions")
        return RemovalTried(
            program=key,
            version=version,
            along=tuple(Along(name=other.key, version=other.version) for other in goes[1:]),
            frees=sum(other.size or 0 for other in goes),
            can_come_back=not any(other.key in upkeep.gone_for_good for other in goes),
        )

    def _remove(self, action: RemoveProgram) -> Iterator[ActionPart]:
        upkeep = read_upkeep(self._folder)
        agreed = {action.program, *(other.name for other in action.along)}
        if not agreed & {program.key for program in upkeep.programs}:
            yield ActionPart(target=action.program, end=ActEnd.DONE, after="not installed any more")
            return
        tried = self._tried(action.program, action.version)
        why = tried.refused
        if not why and (more := [o.name for o in tried.along if o not in action.along]):
            why = f"{', '.join(more)} would be removed too, and nobody agreed to that"
        if not why and not tried.can_come_back and not action.not_reinstallable:
            why = "this version cannot be had again, and nobody agreed to that"
        if why:
            yield ActionPart(target=action.program, end=ActEnd.REFUSED, why=why)
            return
        goes = {action.program, *(other.name for other in tried.along)}
        self._alter(programs=tuple(p for p in upkeep.programs if p.key not in goes))
        for program in upkeep.programs:
            if program.key in goes:
                yield ActionPart(
                    target=program.key,
                    end=ActEnd.DONE,
                    before=program.version,
                    after="not installed",
                )

    # --- restart ---------------------------------------------------------------------------------

    def boot(self) -> str:
        starts = self._startup.starts()
        return starts[-1].boot if starts else "the first"

    def obstacles(self) -> Sequence[str]:
        return read_upkeep(self._folder).restart.blocked_by

    def schedule(self, at: datetime, words: str) -> None:
        soon = read_upkeep(self._folder).restart.after_seconds
        if soon is not None:
            at = min(at, datetime.now(UTC) + timedelta(seconds=soon))
        self._restarts(at=at)

    def is_scheduled(self) -> bool:
        """Asked now and then: when its time has come, it restarts."""
        restart = read_upkeep(self._folder).restart
        if restart.is_off:
            # nobody is there who could take it back
            return True
        if restart.at is None:
            return False
        if restart.put_off:
            self._restarts(at=None, put_off=restart.put_off - 1)
            return False
        if (datetime.now(UTC) - restart.at).total_seconds() >= restart.seconds:
            if not restart.comes_back:
                self._restarts(is_off=True)
                return True
            self.start_anew(datetime.now(UTC))
        return True

    def start_anew(self, at: datetime) -> BootCost:
        """It starts: what waited for that is done."""
        start = self._startup.start_anew(at)
        upkeep = read_upkeep(self._folder)
        if not (self._folder / UPKEEP_FILE).exists():
            return start
        restart = upkeep.restart.model_copy(update={"at": None, "is_off": False})
        self._alter(restart=restart, repair_waits=(), restart_waits="")
        if upkeep.repair_waits:
            repair(self._folder, upkeep.repair_waits)
        return start

    def cancel(self) -> None:
        self._restarts(at=None)

    def _restarts(self, **changes: object) -> None:
        restart = read_upkeep(self._folder).restart
        self._alter(restart=restart.model_copy(update=changes))

    @property
    def is_off(self) -> bool:
        with suppress(OSError):
            return read_upkeep(self._folder).restart.is_off
        return False

    def usable_after(self) -> float | None:
        return read_upkeep(self._folder).restart.usable_after

    def failed_parts(self) -> Sequence[str] | None:
        return read_upkeep(self._folder).restart.failed_parts


def _works(units: int, per_second: float, watch: Watch) -> None:
    """Pretend to go through so much."""
    watch(0, units)
    if not per_second:
        return
    began = time.monotonic()
    while (done := int((time.monotonic() - began) * per_second)) < units:
        watch(done, units)
        time.sleep(min(_STEP, (units - done) / per_second))


def _takes(seconds: float, watch: Callable[[], None]) -> None:
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0:
        time.sleep(min(left, _STEP))
        watch()
