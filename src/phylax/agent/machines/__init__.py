"""Machine kinds: what the engine asks of a machine, one module for each kind."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Literal, Protocol

from phylax.agent.machines.upkeep import UpkeepMachine
from phylax.agent.tuning.setting_backend import SettingBackend
from phylax.core.catalogue import Folder, Source
from phylax.core.ground.machines import MachineFacts, System
from phylax.core.ground.readings import ReadingIn
from phylax.core.ground.values import Scalar
from phylax.core.survey.file_stat import FileStat
from phylax.core.tuning.pieces import Piece
from phylax.core.tuning.programs import Program, Switch
from phylax.core.tuning.starts import BootCost
from phylax.core.tuning.verdicts import Seen

HOLD = ".phylax-held"
"""The hold's folder at the top of a volume."""
TrashLayout = Literal["freedesktop", "recycle-bin", "plain"]


@dataclass(frozen=True)
class Location:
    """A named location, resolved on this machine."""

    path: str
    """Real path, free of links, as the running system opens it."""
    shown: str
    """The path as the machine's people write it."""
    user: str = ""
    why: str = ""
    """Why it cannot be looked at; empty where it can."""
    owners: range | None = None
    """User numbers whose things may go there; None: everyone's."""
    is_shared: bool = False
    """Everybody may put things there (a sticky folder)."""


@dataclass(frozen=True)
class Thing:
    """Something that can go and is no plain file: a restore point, a package's revision."""

    name: str
    size: int
    aged_from: int | None
    """Epoch second its age counts from; None where that cannot be known."""
    group: str = ""
    mount: str = ""
    """The volume it lies on; empty for the system's."""


@dataclass(frozen=True)
class InUse:
    """What is open on the machine at one moment."""

    files: frozenset[tuple[int, int]] = field(default_factory=frozenset)
    """(device, file number) of every open file that could be seen."""
    programs: frozenset[str] = field(default_factory=frozenset)
    """Names of running programs, in small letters."""

    @cached_property
    def numbers(self) -> frozenset[int]:
        """The file numbers alone: a quick first look for the many that are not open."""
        return frozenset(number for _, number in self.files)

    def holds(self, file: FileStat | os.stat_result) -> bool:
        return file[1] in self.numbers and (file[2], file[1]) in self.files


class TunedMachine(Protocol):
    """What a machine is asked about its settings."""

    keeps_people_apart: bool
    """True where what is of different people lies in different places, with rights of their own."""

    def boot(self) -> str:
        """What the system calls the start under way; another one after each."""
        ...

    def programs(self) -> list[Program]:
        """Everything that starts a program by itself, by program; touches nothing. OSError where
        this kind of machine cannot be asked."""
        ...

    def values(self) -> list[Seen]:
        """Settings of one value, the machine's and its people's; touches nothing. What cannot be
        read says why. OSError where this kind of machine cannot be asked."""
        ...

    def value_pieces(
        self, setting: str, of: str, value: Scalar, keeps: Sequence[str] = ()
    ) -> tuple[Piece, ...]:
        """What a setting alters to become a value; `keeps` are sites whose sign-ins stay. OSError
        where it cannot be told, or this kind of machine sets nothing."""
        ...

    def on_battery(self) -> bool | None:
        """Whether it runs on its battery now; None where it has none."""
        ...

    def switched(self, program: Program, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        """What a plan alters. OSError where it cannot be told, or this kind of machine switches
        nothing."""
        ...

    def hands(self) -> SettingBackend:
        """What reads and writes all that is set and switched."""
        ...


class MachineKind(TunedMachine, UpkeepMachine, Protocol):
    """What a kind of machine answers."""

    system: System
    trash_layout: TrashLayout
    sizes_as_allocated: bool
    """True where a file counts as the blocks it holds, False where as its length (stand-ins)."""
    counts_attributes: bool
    """True where a change of attributes makes a file young, as no program can set that time; False
    where ages are the machine's own (stand-ins)."""

    def facts(self) -> MachineFacts: ...

    def booted_at(self) -> datetime | None:
        """When the machine was started; None where that cannot be known."""
        ...

    def starts(self) -> Sequence[BootCost]:
        """What starts cost, of those that can be told now; also such as were told before."""
        ...

    def volumes(self) -> list[ReadingIn]:
        """A reading of every volume that is looked after."""
        ...

    def mount_at(self, path: str) -> str:
        """The mount of the volume that a real path lies on."""
        ...

    def top_of(self, mount: str) -> str:
        """The real path at which a volume begins."""
        ...

    def capacity_at(self, path: str) -> int:
        """The bytes of the volume that a real path lies on."""
        ...

    def hold_folder(self, path: str, own: str) -> str:
        """Where things from a real path's volume are held: in the agent's own folder if that is
        on the same volume, else at the volume's top."""
        ...

    def locations(self, base: Folder) -> Iterator[Location]:
        """Where a named location is on this machine, for every person or volume."""
        ...

    def named_folder(self, shown: str) -> Location | None:
        """A folder that the shop names, as the machine's people write it; None where there is
        none, or where this machine does not allow it."""
        ...

    def real_folder(self, shown: str) -> str | None:
        """Where a folder that people wrote down really is, links resolved; None: nowhere here, or
        not to be asked with these rights."""
        ...

    def may_ask(self, path: str) -> bool:
        """Whether a path lies on something that is sure to answer."""
        ...

    def things(self, source: Source) -> Iterator[Thing]:
        """What a source holds that is no plain file. OSError where it cannot be asked."""
        ...

    def let_go(self, source: Source, name: str, breathe: Callable[[], None] = lambda: None) -> None:
        """Let one thing go. OSError where that fails. `breathe` is called a few times a second
        while it takes, and may raise to end the waiting."""
        ...

    def in_use(self) -> InUse: ...

    def sealed(self) -> Sequence[str]:
        """Trees in which nothing is ever touched: the system's, people's own folders."""
        ...

    def openings(self) -> Sequence[str]:
        """Folders inside sealed trees that may hold a category's files all the same."""
        ...

    def roots(self) -> Sequence[str]:
        """Folders that may hold locations but are never one: homes, tops of volumes."""
        ...

    def join(self, shown: str, below: str) -> str:
        """A shown path with folders below it, in this system's way of writing."""
        ...

    def pace(self, items: int) -> None:
        """Called after so many items; a stand-in takes the time its pretended disk needs."""
        ...
