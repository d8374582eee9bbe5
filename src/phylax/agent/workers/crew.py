"""Who does the work on a machine.

The agent itself where it has no more rights than a person, or the machine is a pretended one. On a
Linux machine where it is root, itself for what is the system's, and for each person a worker with
that person's rights (`workers.people`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.run_journal import RunJournal, gone_of
from phylax.agent.cleaning.cleaner import Cleaner
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import Guard
from phylax.agent.files.arrivals import Arrivals, KeptArrivals
from phylax.agent.hold.expiry import end_what_is_due
from phylax.agent.hold.hold import Hold
from phylax.agent.hold.restore import HeldWork
from phylax.agent.machines import MachineKind, TunedMachine
from phylax.agent.machines.upkeep import Watch
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.surveyor import survey
from phylax.agent.survey.task import Stopped, SurveyListener, SurveyTask, Watcher
from phylax.core.checks.findings import Checked
from phylax.core.ground.tally import Tally
from phylax.core.inventory import Inventory
from phylax.core.protocol import AgreedListing, HeldMessage, HeldOrder
from phylax.core.survey import Item, SurveyLine, spell
from phylax.core.survey.conditions import Conditions
from phylax.core.tuning.programs import Program

_SYSTEM = "system"


@dataclass
class PassReport:
    """What became of it in one party's places."""

    outcomes: Outcomes
    again: dict[str, list[Item]] = field(default_factory=dict)
    refused: dict[str, int] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)
    stopped: Stopped | None = None


class Party(Protocol):
    """Whose places are worked on together, with the same rights."""

    name: str
    """The person's; empty for the machine itself."""

    def look(self, task: SurveyTask, listener: SurveyListener) -> list[SurveyLine]:
        """A line for every category on every volume where there is a place. Raises what
        `listener.watch` raises."""
        ...

    def clean(self, task: CleaningPass, journal: RunJournal, watch: Watcher) -> PassReport:
        """One pass. Raises what `watch` raises but for Stopped, which is in the report."""
        ...


class SystemParty:
    """The agent with its own rights."""

    name = ""

    def __init__(
        self, machine: MachineKind, guard: Guard, hold: Hold, arrivals: KeptArrivals
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._hold = hold
        self._arrivals = arrivals
        self.apart: Callable[[], frozenset[str]] = frozenset
        """Names of the people who have parties of their own."""

    def look(self, task: SurveyTask, listener: SurveyListener) -> list[SurveyLine]:
        kept = task.remember and task.now.trusted
        arrivals = Arrivals(self._arrivals.known(_SYSTEM), int(task.now.now) if kept else 0)
        lines = survey(self._machine, self._guard, task, listener, arrivals)
        if kept:
            self._arrivals.keep(_SYSTEM, arrivals.folders)
        return lines

    def clean(self, task: CleaningPass, journal: RunJournal, watch: Watcher) -> PassReport:
        # the listings stay, with nothing in them: by its rule nothing of these goes
        task = replace(task, agreed=tuple(map(self._own, task.agreed)))
        arrivals = Arrivals(self._arrivals.known(_SYSTEM))
        cleaner = Cleaner(self._machine, self._guard, journal, self._hold, task, watch, arrivals)
        report = PassReport(cleaner.outcomes)
        try:
            cleaner.go_over()
        except Stopped as stop:
            report.stopped = stop
        report.again = cleaner.again
        report.refused = {key: cleaner.outcomes.refused_size(key) for key in task.keys}
        report.problems = cleaner.outcomes.problems
        return report

    def _own(self, listing: AgreedListing) -> AgreedListing:
        """What was agreed to, but for what lies with people who do their part themselves."""
        apart = self.apart()
        own = tuple(item for item in listing.items if item.user not in apart)
        return listing.model_copy(update={"items": own})


class Crew:
    """Everyone who works on a machine: here the agent alone."""

    def __init__(self, machine: MachineKind, guard: Guard, hold: Hold) -> None:
        self.machine = machine
        self.guard = guard
        self.hold = hold
        self.arrivals = KeptArrivals(Path(hold.own, "arrivals"))
        self._itself = SystemParty(machine, guard, hold, self.arrivals)
        self.tuned: TunedMachine = machine
        """Whose settings are looked at and changed."""

    def guarded(self, program: Program) -> Program:
        """A program with what this machine's own guard says of it."""
        if program.guarded or program.key not in self.guard.never_programs:
            return program
        return program.model_copy(update={"guarded": "named by this machine's own guard"})

    def parties(self) -> list[Party]:
        """The machine itself, then everyone who has something on it."""
        return [self._itself]

    def check(self, kind: str, mode: str, watch: Watch) -> Iterator[Checked | Inventory]:
        """What a check comes to, as the machine says. OSError where it cannot be checked here."""
        return self.machine.check(kind, mode, watch)

    def held_of(self, identity: str, key: str) -> Tally:
        """What a run holds of a category."""
        mine = self.hold.of_run(identity)
        return sum((batch.tally() for batch in mine if batch.head.category == key), Tally())

    def held_work(
        self, spool: Spool, order: HeldOrder, journal: RunJournal, watch: Watcher
    ) -> dict[str, Any]:
        """Put held things back or let them go; what became of it, as fields of a result."""
        return HeldWork(self.hold, spool, order, journal, watch).carry_out()

    def end_what_is_due(self, spool: Spool, now: datetime, check: Callable[[], None]) -> None:
        """Let go what has had its time, or gives way."""
        end_what_is_due(self.hold, spool, now, check)

    def holds_something(self) -> bool:
        return any(True for _ in self.hold.batches())

    def tell_untold(self, send: Callable[[HeldMessage], None]) -> None:
        """Say what is held for people and was not told yet. Raises what `send` raises."""

    def conditions(self) -> Conditions:
        """How the machine stands for a survey, beyond what an order says."""
        mounts = sorted(spell(reading.mount)[0] for reading in self.machine.volumes())
        words, _ = spell(self.guard.in_words())
        return Conditions(
            guard=self.guard.digest, guard_words=words[:500], volumes=tuple(mounts)[:500]
        )

    def tell_again(self) -> None:
        """What is held counts as not told: the service may not know of it any more. OSError where
        that cannot be noted."""
        for batch in self.hold.batches():
            batch.note_untold()

    def recover(self) -> None:
        """Put back everything that was moved aside by what was cut off."""
        self.hold.recover()

    def gone_in(self, about: dict[str, Any]) -> Sequence[int]:
        """Which names of a batch are gone that a run was about to remove when it was cut off."""
        return gone_of(about) if about.get("uid") is None else ()
