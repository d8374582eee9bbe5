"""Who does the work on a machine.

The agent itself where it has no more rights than a person, or the machine is a pretended one. On a
Linux machine where it is root, itself for what is the system's, and for each person a worker with
that person's rights (`workers.people`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.run_journal import RunJournal, gone_of
from phylax.agent.cleaning.cleaner import Cleaner
from phylax.agent.config.guard import Guard
from phylax.agent.hold.expiry import end_what_is_due
from phylax.agent.hold.hold import Hold
from phylax.agent.hold.restore import HeldWork
from phylax.agent.machines import MachineKind
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.arrivals import Arrivals, KeptArrivals
from phylax.agent.survey.surveyor import Listing, Stopped, Watcher, own_folders, survey
from phylax.core.believed_time import Believed
from phylax.core.protocol import AgreedListing, CategoryRule, HeldMessage, HeldOrder
from phylax.core.retention import ProtectEntry
from phylax.core.survey import Item, SurveyLine, Tally

_SYSTEM = "system"


@dataclass(frozen=True)
class Pass:
    """What is gone over in one pass of a cleaning."""

    run_id: int
    look: tuple[CategoryRule, ...]
    protect: tuple[ProtectEntry, ...]
    keys: tuple[str, ...]
    standing: tuple[str, ...]
    agreed: tuple[AgreedListing, ...]
    now: Believed


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

    def look(
        self,
        look: Sequence[CategoryRule],
        protect: Sequence[ProtectEntry],
        now: Believed,
        watch: Watcher,
        listing: Listing,
        part: Callable[[list[SurveyLine]], None],
        there: Callable[[ProtectEntry], None] = lambda entry: None,
        *,
        remember: bool = False,
    ) -> list[SurveyLine]:
        """A line for every category on every volume where there is a place; `there` is given each
        folder of the protect list that is. A whole look is to `remember` which folders it saw.
        Raises what `watch` raises."""
        ...

    def clean(self, task: Pass, journal: RunJournal, watch: Watcher) -> PassReport:
        """One pass. Raises what `watch` raises but for Stopped, which is in the report."""
        ...


class Itself:
    """The agent with its own rights."""

    name = ""

    def __init__(
        self, machine: MachineKind, guard: Guard, hold: Hold, arrivals: KeptArrivals
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._hold = hold
        self._arrivals = arrivals

    def look(
        self,
        look: Sequence[CategoryRule],
        protect: Sequence[ProtectEntry],
        now: Believed,
        watch: Watcher,
        listing: Listing,
        part: Callable[[list[SurveyLine]], None],
        there: Callable[[ProtectEntry], None] = lambda entry: None,
        *,
        remember: bool = False,
    ) -> list[SurveyLine]:
        kept = remember and now.trusted
        arrivals = Arrivals(self._arrivals.known(_SYSTEM), int(now.now) if kept else 0)
        lines = survey(
            self._machine, self._guard, look, now, protect=protect, watch=watch, listing=listing,
            part=part, there=there, arrivals=arrivals,
        )  # fmt: skip
        if kept:
            self._arrivals.keep(_SYSTEM, arrivals.folders)
        return lines

    def clean(self, task: Pass, journal: RunJournal, watch: Watcher) -> PassReport:
        cleaner = Cleaner(
            self._machine,
            self._guard,
            journal,
            self._hold,
            task.run_id,
            task.now,
            watch,
            own_folders=own_folders(task.look),
            protect=task.protect,
            arrivals=Arrivals(self._arrivals.known(_SYSTEM)),
        )
        report = PassReport(cleaner.outcomes)
        rules = {look.category: look.rule for look in task.look}
        try:
            cleaner.go_over(task.keys, rules, task.agreed, task.standing)
        except Stopped as stop:
            report.stopped = stop
        report.again = cleaner.again
        report.refused = {key: cleaner.outcomes.refused_size(key) for key in task.keys}
        report.problems = cleaner.outcomes.problems
        return report


class Crew:
    """Everyone who works on a machine: here the agent alone."""

    def __init__(self, machine: MachineKind, guard: Guard, hold: Hold) -> None:
        self.machine = machine
        self.hold = hold
        self.arrivals = KeptArrivals(Path(hold.own, "arrivals"))
        self._itself = Itself(machine, guard, hold, self.arrivals)

    def parties(self) -> list[Party]:
        """The machine itself, then everyone who has something on it."""
        return [self._itself]

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

    def tell_untold(self, send: Callable[[HeldMessage], None]) -> None:
        """Say what is held for people and was not told yet. Raises what `send` raises."""

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
