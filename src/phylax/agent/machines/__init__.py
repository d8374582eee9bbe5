"""Machine kinds: what the engine asks of a machine, one module for each kind."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal, Protocol

from phylax.core.catalogue import Base
from phylax.core.shop import MachineFacts, ReadingIn, System

TrashLayout = Literal["freedesktop", "recycle-bin", "plain"]


@dataclass(frozen=True)
class Location:
    """A named location, resolved on this machine."""

    path: str
    """Real path, free of links, as the running system opens it."""
    shown: str
    """The path as the machine's people write it."""
    user: str = ""


@dataclass(frozen=True)
class InUse:
    """What is open on the machine at one moment."""

    files: frozenset[tuple[int, int]] = field(default_factory=frozenset)
    """(device, file number) of every open file that could be seen."""
    programs: frozenset[str] = field(default_factory=frozenset)
    """Names of running programs, in small letters."""


class MachineKind(Protocol):
    """What a kind of machine answers."""

    system: System
    trash_layout: TrashLayout
    sizes_as_allocated: bool
    """True where a file counts as the blocks it holds, False where as its length (stand-ins)."""

    def facts(self) -> MachineFacts: ...

    def volumes(self) -> list[ReadingIn]:
        """A reading of every volume that is looked after."""
        ...

    def mount_at(self, path: str) -> str:
        """The mount of the volume that a real path lies on."""
        ...

    def locations(self, base: Base) -> Iterator[Location]:
        """Where a named location is on this machine, for every person or volume."""
        ...

    def in_use(self) -> InUse: ...

    def sealed(self) -> Sequence[str]:
        """Trees in which nothing is ever touched: the system's, people's own folders."""
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
