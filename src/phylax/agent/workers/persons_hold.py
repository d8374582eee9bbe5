"""What a worker holds: in the person's own hold folders, which the agent makes and names."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from phylax.agent.hold.batch import Batch, BatchHead
from phylax.agent.hold.hold import Hold
from phylax.agent.machines.linux.person import LinuxPerson
from phylax.agent.survey.places import Place
from phylax.agent.workers import jobs
from phylax.agent.workers.connection import AgentConnection, sent
from phylax.core.ground.tally import Tally


class PersonsHold(Hold):
    """The person's own hold folders, which the agent makes and names."""

    def __init__(
        self,
        machine: LinuxPerson,
        agent: AgentConnection,
        around: jobs.Surroundings,
        folders: Sequence[str] = (),
        names: Iterable[str] = (),
    ) -> None:
        super().__init__(machine, "/nonexistent")
        self.agent = around.agent
        self._person = around.person.name
        self._link = agent
        self._folders = list(folders)
        self.names = set(names)
        self._room: dict[str, int] = {}
        self._held: dict[str, Tally] = {}
        """By batch that was begun here: counted as it is taken, for there may be very many."""

    def batches(self) -> Iterator[Batch]:
        """Those that the agent named: other agents' lie in the same folder."""
        for batch in super().batches():
            if batch.name in self.names:
                yield batch

    def own_batches(self) -> Iterator[Batch]:
        """All of this agent's, also what it does not know of."""
        return (batch for batch in super().batches() if self.agent and batch.head.agent)

    def folders(self) -> list[str]:
        return [folder for folder in self._folders if os.path.isdir(folder)]

    def possible(self) -> list[str]:
        return self._folders

    def begin(self, head: BatchHead, place: Place) -> Batch:
        answer = self._link.ask(
            jobs.NewBatch(
                category=head.category,
                place=sent(place.path),
                held_at=head.held_at,
                until_at=head.until_at,
                yields_below=head.yields_below,
                aside=head.aside,
            )
        )
        if not answer.ok:
            raise OSError(answer.code, answer.why)
        if answer.folder not in self._folders:
            self._folders.append(answer.folder)
        self.names.add(answer.name)
        _make_own(answer.folder)
        own = head.model_copy(update={"agent": self.agent, "person": self._person})
        batch = Batch.make(answer.folder, answer.name, own)
        if not head.aside:
            # of a run that was cut off it may hold something already
            before = Tally() if batch.is_empty else batch.tally()
            self._held[answer.name] = before
        return batch

    def tallies(self) -> dict[str, tuple[int, int]]:
        """By batch that is there still: things and bytes that it holds."""
        held = (
            (batch.name, self._held.get(batch.name) or batch.tally()) for batch in self.batches()
        )
        return {name: (tally.count, tally.size) for name, tally in held}

    def room(self, place: Place) -> int:
        if place.mount not in self._room:
            self._room[place.mount] = int(
                self._link.ask(jobs.RoomQuestion(place=sent(place.path))).code
            )
        return self._room[place.mount]

    def took(self, batch: Batch, count: int, size: int) -> None:
        # nobody else holds anything on the machine meanwhile
        if batch.head.mount in self._room:
            self._room[batch.head.mount] -= size
        if batch.name in self._held:
            self._held[batch.name] += Tally(count=count, size=size)


def _make_own(folder: str) -> None:
    """Make a hold folder at the top of the person's own volume, where the agent has made none.
    PermissionError where what has its name is somebody else's."""
    with suppress(FileExistsError):
        os.mkdir(folder, 0o700)
    of = os.lstat(folder)
    if not stat.S_ISDIR(of.st_mode) or of.st_uid != os.geteuid():
        raise PermissionError(errno.EPERM, "somebody else's folder is in the way", folder)
