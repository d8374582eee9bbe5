"""Root's side of the work for people: whose parts there are, and what their workers are told."""

from __future__ import annotations

import struct
from base64 import b64encode
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import Any

from phylax.agent.account.run_journal import RunJournal, gone_of
from phylax.agent.config.guard import Guard, GuardRules
from phylax.agent.hold.hold import Hold
from phylax.agent.hold.index import HoldIndex
from phylax.agent.machines.linux.people import Person
from phylax.agent.machines.linux.system import LinuxSystem
from phylax.agent.machines.upkeep import Watch
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.task import Watcher
from phylax.agent.workers import jobs
from phylax.agent.workers.crew import Crew, Party
from phylax.agent.workers.held_for_people import HeldForPeople
from phylax.agent.workers.peoples_settings import PeoplesSettings
from phylax.agent.workers.person_worker_proxy import PersonWorkerProxy
from phylax.agent.workers.supervisor import ForkServer
from phylax.core.checks.findings import Checked
from phylax.core.ground.tally import Tally
from phylax.core.inventory import Inventory
from phylax.core.protocol import (
    HeldMessage,
    HeldOrder,
)

_PAIR = struct.Struct("<QQ")


class CrewWithWorkers(Crew):
    """The agent for the system's part of a Linux machine, and a worker for each of its people."""

    def __init__(
        self,
        machine: LinuxSystem,
        guard: Guard,
        hold: Hold,
        fork_server: ForkServer,
        index: HoldIndex,
        rules: GuardRules,
        own: Sequence[str] = (),
    ) -> None:
        """`own` are the agent's folders, in which no worker has any business."""
        super().__init__(machine, guard, hold)
        self._itself.apart = lambda: frozenset(person.name for person in machine.apart())
        self._linux = machine
        self.fork_server = fork_server
        self._rules = rules
        self._own = tuple(own)
        self.held_for = HeldForPeople(machine, hold, index, fork_server, rules, self.around)
        self._settings = PeoplesSettings(machine, fork_server)
        self.tuned = self._settings

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        """What is people's own is read by their workers."""
        yield from super().check(kind, mode, watch)
        if kind == "browsers":
            yield from self._settings.browsers(watch)

    def parties(self) -> list[Party]:
        return [
            *super().parties(),
            *(PersonWorkerProxy(self, person) for person in self._linux.apart()),
        ]

    def around(self, person: Person) -> jobs.Surroundings:
        return jobs.Surroundings(
            person=person,
            volumes=tuple(self.machine.volumes()),
            never_touch=self._rules.never_touch,
            allow_folders=self._rules.allow_folders,
            shared=tuple(self._linux.shared()),
            own=self._own,
            agent=self.hold.agent,
        )

    def in_use_for(self, person: Person) -> jobs.Answer:
        """What is open on the machine, as far as it concerns a person."""
        in_use = self._linux.in_use()
        pairs = b"".join(_PAIR.pack(device, number) for device, number in in_use.files)
        programs = self._linux.programs_of(person.uid)
        return jobs.Answer(files=b64encode(pairs).decode("ascii"), programs=tuple(programs))

    # --- what is held ---------------------------------------------------------------------------

    def held_of(self, identity: str, key: str) -> Tally:
        """What a run holds of a category, for people as their workers said."""
        return super().held_of(identity, key) + self.held_for.held_of(identity, key)

    def held_work(
        self, spool: Spool, order: HeldOrder, journal: RunJournal, watch: Watcher
    ) -> dict[str, Any]:
        ours = tuple(pick for pick in order.picks if not self.held_for.knows(pick.batch))
        did: dict[str, Any] = {"outcomes": (), "left": ()}
        if ours or not order.picks:
            did |= super().held_work(
                spool, order.model_copy(update={"picks": ours}), journal, watch
            )
        self.held_for.work(spool, order, journal, watch, did)
        return did

    def end_what_is_due(self, spool: Spool, now: datetime, check: Callable[[], None]) -> None:
        super().end_what_is_due(spool, now, check)
        self.held_for.end_what_is_due(spool, now, check)

    def holds_something(self) -> bool:
        return super().holds_something() or not self.held_for.is_empty

    def tell_untold(self, send: Callable[[HeldMessage], None]) -> None:
        self.held_for.tell_untold(send)

    def tell_again(self) -> None:
        super().tell_again()
        self.held_for.tell_again()

    def recover(self) -> None:
        super().recover()
        self.held_for.recover()

    def gone_in(self, about: dict[str, Any]) -> Sequence[int]:
        """Which names of a batch are gone that a run was about to remove when it was cut off."""
        uid = about.get("uid")
        if uid is None:
            return gone_of(about)
        person = self.held_for.person(int(uid))
        gone = None if person is None else self.held_for.recover_for(person, about)
        return gone if gone is not None else ()
