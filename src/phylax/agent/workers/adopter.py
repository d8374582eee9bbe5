"""What is held for people is known again where the agent's own folder was set back to an older
copy.

When a batch ends is taken from its head, which its person could change, and is bounded.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import UTC, datetime

from phylax.agent.hold.hold import Hold
from phylax.agent.hold.index import HeldFor, HoldIndex, persons_folders
from phylax.agent.machines.linux.mounts import mount_over
from phylax.agent.machines.linux.people import Person
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.workers import jobs
from phylax.agent.workers.channel import WorkerError
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.catalogue import catalogue
from phylax.core.retention.rules import LONGEST_HOLD

_MOST = 1000
"""Batches of one person that are taken up at once."""
_log = logging.getLogger("phylax.agent")


class Adopter:
    """Takes up batches that lie in people's hold folders and not in the agent's list."""

    def __init__(
        self,
        machine: LinuxSystem,
        hold: Hold,
        index: HoldIndex,
        fork_server: ForkServer,
        around: Callable[[Person], jobs.Surroundings],
        person: Callable[[int], Person | None],
    ) -> None:
        self._machine = machine
        self._hold = hold
        self._index = index
        self._fork_server = fork_server
        self._around = around
        self._person = person
        self._seen: set[str] = set()
        """Folders that were looked into since the agent began."""

    def adopt(self) -> None:
        """Look into the hold folder of everybody who has one, with their rights; once into each."""
        known = {entry.batch for entry in self._index.entries()}
        for folder in persons_folders(self._hold.possible()):
            if folder.path in self._seen:
                continue
            self._seen.add(folder.path)
            uid, gid = folder.owner
            person = self._person(uid) or Person(
                name=str(uid), uid=uid, gid=gid, home=f"/nonexistent/{uid}"
            )
            for batch in self._batches_in(folder.path, person):
                if batch.batch not in known and batch.folder == folder.path:
                    self._adopt(person, batch)

    def _batches_in(self, folder: str, person: Person) -> list[jobs.BatchThere]:
        there: list[jobs.BatchThere] = []

        def handle(message: jobs.FromWorker) -> None:
            if not isinstance(message, jobs.BatchThere) or len(there) == _MOST:
                raise WorkerError(f"it said {message.kind!r} when asked what lies there")
            there.append(message)

        job = jobs.FindJob(around=self._around(person), folders=(folder,))
        try:
            self._fork_server.work(person, job, handle)
        except WorkerError as error:
            _log.error("what is held for %s is not known: %s", person.name, error)
        return there

    def _adopt(self, person: Person, batch: jobs.BatchThere) -> None:
        run_id, key, _ = batch.batch.split(".")
        if key not in catalogue():
            return
        now = datetime.now(UTC)
        self._index.put(
            HeldFor(
                batch=batch.batch,
                uid=person.uid,
                gid=person.gid,
                person=batch.person or person.name,
                home=person.home,
                folder=batch.folder,
                run_id=int(run_id),
                run=batch.run,
                category=key,
                mount=self._machine.mount_at(mount_over(batch.folder).path),
                held_at=min(batch.held_at, now),
                until_at=min(batch.until_at, now + LONGEST_HOLD),
                yields_below=batch.yields_below,
                aside=batch.aside,
            )
        )
        _log.warning("held for %s and not known of: %s", person.name, batch.batch)
