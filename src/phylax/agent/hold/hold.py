"""The hold: where things wait some days before they go for good, on their own volume.

A folder for nobody else, in it one for each batch (what one run holds of one category on one
volume): `manifest.jsonl` and `things/`, where each lies under its number. What is about to be held
is in the manifest, on the disk, before anything moves, and moving is one step: so whatever happens,
a thing lies either where it was or under its number. The format: docs/hold.md.
"""

from __future__ import annotations

import errno
import json
import os
import re
import secrets
import stat
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import datetime
from hashlib import blake2b
from typing import TypeVar

from phylax.agent.hold.batch import Batch, BatchHead
from phylax.agent.machines import MachineKind
from phylax.agent.platform.reserve import Reserve
from phylax.agent.survey.places import Place

AT_MOST_PERCENT = 10
T = TypeVar("T")
_NAME = re.compile(r"[0-9]{1,18}\.[a-z-]{1,60}\.[0-9a-f]{8,32}")


class Hold:
    """Everything that is held on one machine."""

    def __init__(
        self,
        machine: MachineKind,
        own: str,
        *,
        at_most_percent: int = AT_MOST_PERCENT,
        reserve: Reserve | None = None,
    ) -> None:
        """`own` is the agent's own folder; of no volume more than `at_most_percent` is held.
        The reserve gives its room where the volume it is on is full."""
        self._machine = machine
        self.own = own
        self._at_most = at_most_percent
        self._reserve = reserve
        self._sums: dict[str, int] = {}
        self.agent = _identity_in(own)
        self._mounts = os.path.join(own, "held-mounts.jsonl")
        with suppress(OSError), open(self._mounts, "a", encoding="ascii"):
            pass

    def folders(self) -> list[str]:
        """The folders on the machine's volumes in which something may be held, those there."""
        return [folder for folder in self.possible() if _is_own(folder)]

    def possible(self) -> list[str]:
        """The same, also those not there yet."""
        mounts = (volume.mount for volume in self._machine.volumes())
        tops = [
            self._machine.hold_folder(self._machine.top_of(mount), self.own) for mount in mounts
        ]
        names = dict.fromkeys([*tops, self._machine.hold_folder(self.own, self.own)])
        return [folder for name in names for folder in (name, self._own_name(name))]

    def _own_name(self, folder: str) -> str:
        """The name that is taken where somebody else has the usual one; nobody can guess it before
        it is there."""
        return f"{folder}-{self.agent[:12]}"

    def _make_folder(self, folder: str) -> str:
        """Make the hold's folder on a volume; its path. OSError where it cannot be made."""
        try:
            _own_folder(folder)
        except PermissionError:
            folder = self._own_name(folder)
            _own_folder(folder)
        return folder

    def batches(self) -> Iterator[Batch]:
        """All batches, oldest run first; each is open until the next."""
        for folder in self.folders():
            names = (name for name in os.listdir(folder) if _NAME.fullmatch(name))
            for name in sorted(names, key=lambda name: int(name.partition(".")[0])):
                try:
                    batch = Batch.open(folder, name)
                except (OSError, ValueError):
                    # damaged, or somebody else's: never touched, an administrator must look
                    continue
                if batch.head.agent not in ("", self.agent):
                    batch.close()
                    continue
                try:
                    yield batch
                finally:
                    batch.close()

    def batch(self, name: str) -> Batch:
        """One batch by its name. FileNotFoundError where there is none, whatever is asked for."""
        if not _NAME.fullmatch(name):
            raise FileNotFoundError(errno.ENOENT, "no such batch", name)
        for folder in self.folders():
            with suppress(FileNotFoundError):
                return Batch.open(folder, name)
        raise FileNotFoundError(errno.ENOENT, "no such batch", name)

    def is_away(self, name: str) -> bool:
        """Whether a batch that is not found lies on a volume that is not connected."""
        mount = self._noted_mounts().get(name)
        connected = {volume.mount for volume in self._machine.volumes()}
        return mount is not None and mount not in connected

    def _noted_mounts(self) -> dict[str, str]:
        """By batch: the mount that it was made on."""
        mounts: dict[str, str] = {}
        with suppress(OSError), open(self._mounts, encoding="ascii", errors="replace") as lines:
            for line in lines:
                # one that was cut off while it was written is of a batch that was never made
                with suppress(ValueError, TypeError):
                    name, mount = json.loads(line)
                    mounts[name] = mount
        return mounts

    def _note_mount(self, name: str, mount: str) -> None:
        """Where a batch lies, for when its volume is not there. OSError where that cannot be kept:
        then nothing is held. One file for all, which is there before a volume is full."""
        if self._noted_mounts().get(name) == mount:
            return
        with open(self._mounts, "a", encoding="ascii") as file:
            file.write(json.dumps([name, mount]) + "\n")

    def of_run(self, identity: str) -> Iterator[Batch]:
        """What a run holds, by its own identity: its number may come again."""
        return (batch for batch in self.batches() if batch.head.run == identity)

    def begin(self, head: BatchHead, place: Place) -> Batch:
        """The batch for what a run holds of a category on a place's volume.

        Its name comes from the run's identity, `head.run`, which is random: a service that was set
        back may give a number twice, and things of one run must never get into the time of
        another. OSError where it cannot be: no room, no right, or somebody else's folder in the
        way.
        """
        folder = self._machine.hold_folder(place.path, self.own)
        if folder not in self.possible():
            raise OSError(errno.EXDEV, "nothing is held on this volume", place.mount)
        name = self.name_of(head.run_id, head.run, head.category, head.mount, aside=head.aside)
        own = head.model_copy(update={"agent": self.agent})

        def make() -> Batch:
            self._note_mount(name, head.mount)
            return Batch.make(self._make_folder(folder), name, own)

        return self.with_room(make)

    def recover(self) -> None:
        """Put back what was moved aside by a run that was cut off. What cannot go back waits here
        as held things do."""
        for batch in self.batches():
            if not batch.head.aside:
                continue
            for entry in batch.held():
                with suppress(OSError):
                    batch.put_back(entry, beside=False)
            if batch.is_empty:
                batch.sweep_up()

    @staticmethod
    def name_of(run_id: int, identity: str, category: str, mount: str, *, aside: bool) -> str:
        """A batch's name: the same for the same work, and for no other."""
        mark = f"{identity}\0{mount}\0{aside}".encode("utf-8", "surrogateescape")
        return f"{run_id}.{category}.{blake2b(mark, digest_size=12).hexdigest()}"

    def held_on(self, mount: str) -> int:
        """Bytes held on a volume, whichever run they are of."""
        if mount not in self._sums:
            self._sums[mount] = sum(
                batch.tally().size for batch in self.batches() if batch.head.mount == mount
            )
        return self._sums[mount]

    def with_room(self, action: Callable[[], T]) -> T:
        """Do something that needs room, with the reserve's where there is none else."""
        return action() if self._reserve is None else self._reserve.lend(action)

    def room(self, place: Place) -> int:
        """Bytes that may still be held on a place's volume."""
        most = self._machine.capacity_at(place.path) * self._at_most // 100
        return most - self.held_on(place.mount)

    def took(self, batch: Batch, count: int, size: int) -> None:
        """So much more is held in a batch."""
        mount = batch.head.mount
        self._sums[mount] = self._sums.get(mount, 0) + size

    def forget_sums(self) -> None:
        self._sums.clear()

    def due(self, now: datetime) -> Iterator[Batch]:
        """Batches that are empty or whose time is over, then those that give way on a volume short
        of space, oldest first.

        Space is asked anew before each, so that no more give way than must.
        """
        for batch in self.batches():
            if batch.head.until_at <= now or batch.is_empty:
                yield batch
        for batch in self.batches():
            below = batch.head.yields_below
            if below and self.is_short(batch.head.mount, below):
                yield batch

    def is_short(self, mount: str, below: int) -> bool:
        volume = next((v for v in self._machine.volumes() if v.mount == mount), None)
        return volume is not None and 100 * volume.free < below * volume.capacity


def _identity_in(own: str) -> str:
    """What tells the agent of a folder from others on the same machine; made once."""
    path = os.path.join(own, "hold-identity")
    with suppress(OSError), open(path, encoding="ascii") as file:
        if text := file.read(64).strip():
            return text
    text = secrets.token_hex(16)
    # where there is no room to keep it, the agent holds nothing that it would not find again
    with suppress(OSError), open(path, "w", encoding="ascii") as file:
        file.write(text)
    return text


def _own_folder(path: str) -> None:
    """Make the hold's folder, for nobody else; PermissionError where there is another's."""
    with suppress(FileExistsError):
        os.mkdir(path, 0o700)
    if not _is_own(path):
        raise PermissionError(errno.EPERM, "not the agent's own folder", path)


def _is_own(path: str) -> bool:
    """Whether a folder is there and the agent's own: what lies in anybody else's of that name is
    never believed, for its notes say where things go back to."""
    try:
        st = os.lstat(path)
    except OSError:
        return False
    if not stat.S_ISDIR(st.st_mode):
        return False
    # others may pass through it to a folder of their own below it, and not more
    return sys.platform == "win32" or (st.st_uid == os.geteuid() and not st.st_mode & 0o066)
