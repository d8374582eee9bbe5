"""The protect list as it holds on one machine: by written path, by real path, and by the folder
itself however it is reached or spelt.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress

from phylax.agent.machines import MachineKind
from phylax.core.retention import ProtectEntry, Protection, ProtectKind
from phylax.core.survey.file_stat import FileStat


class ProtectionHere(Protection):
    """The protect list in force, with the folders that it names as this machine has them."""

    def __init__(self, entries: Iterable[ProtectEntry], machine: MachineKind) -> None:
        super().__init__(entries, machine.system, machine.real_folder)
        self._by_inode: dict[tuple[int, int], ProtectEntry] = {}
        self.folders_there: list[ProtectEntry] = []
        """Of the list's folders, those that the machine has."""
        for entry in self.entries:
            if entry.kind is ProtectKind.FOLDER and (real := machine.real_folder(entry.pattern)):
                self.folders_there.append(entry)
                with suppress(OSError):
                    of = os.stat(real)
                    self._by_inode[of.st_dev, of.st_ino] = entry

    def meet(self, folder: FileStat, written: str) -> None:
        """A walk enters a folder: where it is one of the list's, it is protected under this name
        too. Names may differ by capitals alone and mean the same."""
        entry = self._by_inode.get((folder.st_dev, folder.st_ino))
        if entry is not None:
            self.add_folder(written, entry)


def protection_on(machine: MachineKind, entries: Iterable[ProtectEntry]) -> ProtectionHere:
    """The protect list in force on a machine."""
    return ProtectionHere(entries, machine)
