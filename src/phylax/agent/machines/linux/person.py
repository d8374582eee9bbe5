"""One person on a Linux machine, as their own worker sees it: their places and nothing else."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

from phylax.agent.machines import InUse, Location, Thing
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.machines.linux.locations import (
    folder_location,
    personal_locations,
    trash_on,
)
from phylax.agent.machines.linux.mounts import mount_table
from phylax.agent.machines.linux.startup.of_person import OfPerson, starters_of
from phylax.agent.machines.linux.startup.switching import pieces_of_person
from phylax.core.catalogue import Folder, Source
from phylax.core.ground.readings import ReadingIn
from phylax.core.tuning.pieces import Piece
from phylax.core.tuning.programs import Switch
from phylax.core.tuning.verdicts import Seen


class LinuxPerson(LinuxMachine):
    """The places of one person, looked at with their rights."""

    def __init__(
        self,
        name: str,
        uid: int,
        home: str,
        volumes: Sequence[ReadingIn],
        in_use: Callable[[], InUse],
        *,
        shared: Sequence[str] = (),
        own_folders: Sequence[str] = (),
        root: str = "/",
    ) -> None:
        """`volumes` is how they stood when the agent looked; `shared` are folders that everybody
        may write to; `in_use` asks the agent, who sees more than this person may;
        `root` is where the system's folders begin."""
        super().__init__([home], own_folders=own_folders)
        self._system_root = root
        self._name = name
        self._uid = uid
        self._home = home
        self._volumes = list(volumes)
        self._ask_in_use = in_use
        self._shared = tuple(shared)

    def people(self) -> Iterator[tuple[str, int, str]]:
        yield self._name, self._uid, self._home

    @property
    def home(self) -> str:
        return self._home

    @property
    def root(self) -> str:
        return self._system_root

    def starters(self) -> list[OfPerson]:
        """What starts programs for the person."""
        return starters_of(self._name, self._home, self._system_root)

    def pieces_of(self, plan: Sequence[Switch]) -> tuple[Piece, ...]:
        """What a plan alters of the person's own."""
        return pieces_of_person(self._home, plan, self._name, self._system_root)

    def values(self) -> list[Seen]:
        return [seen for own in self._own_values() for seen in own.values()]

    def volumes(self) -> list[ReadingIn]:
        return self._volumes

    def capacity_at(self, path: str) -> int:
        mount = self.mount_at(path)
        return next((v.capacity for v in self._volumes if v.mount == mount), 0)

    def locations(self, base: Folder) -> Iterator[Location]:
        mine = range(self._uid, self._uid + 1)
        if base == "volume-trash":
            for mount in mount_table():
                if mount.answers and mount.is_whole:
                    yield from trash_on(mount, self._name, self._uid)
        elif base == "system-temp":
            for path in self._shared:
                for location in folder_location(path, self._name):
                    yield replace(location, owners=mine, is_shared=True)
        else:
            yield from personal_locations(base, self._name, self._uid, self._home)

    def named_folder(self, shown: str) -> Location | None:
        location = super().named_folder(shown)
        if location is None or location.why or not os.access(location.path, os.R_OK | os.X_OK):
            return None
        mine = range(self._uid, self._uid + 1)
        return replace(location, user=self._name, owners=mine, is_shared=True)

    def things(self, source: Source) -> Iterator[Thing]:
        return iter(())

    def in_use(self) -> InUse:
        return self._ask_in_use()
