"""The agent's engine as an order drives it: look at a category, clean it, say what became of it."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Callable, Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

from phylax.agent import files
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.cleaning.cleaner import Cleaner
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.config.guard import Guard
from phylax.agent.hold.hold import Hold
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.outbox.sending import Sender
from phylax.agent.outbox.spool import Spool
from phylax.agent.platform.reserve import Reserve
from phylax.agent.runtime.order_runner import OrderRunner
from phylax.agent.survey.surveyor import survey
from phylax.agent.survey.task import SurveyListener, SurveyTask, Watcher
from phylax.agent.workers.crew import Crew
from phylax.client import AgentLink
from phylax.core.catalogue import catalogue
from phylax.core.protocol import (
    AgreedListing,
    CategoryOutcome,
    CategoryRule,
    Order,
    ResultMessage,
    SurveyOrder,
)
from phylax.core.protocol.trusted_time import Believed, by_clock_alone
from phylax.core.retention import ProtectEntry, Rule, RuleInForce, Scope, in_force
from phylax.core.survey import Item, SurveyLine

KILLED = 9


def rule(**said: object) -> RuleInForce:
    default = (Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=1)))
    return in_force([default, (Scope.MACHINE, Rule.model_validate(said))])


class ByContents(LinuxMachine):
    """This machine, judging ages by contents alone: no test can give a file an old change time.
    How ages really count, tests/attack tries on volumes whose times were written from outside."""

    counts_attributes = False


class NothingRuns(ByContents):
    """The same with no program running: the tests' own browser must not matter."""

    def in_use(self) -> InUse:
        return InUse(super().in_use().files)


def now() -> Believed:
    return by_clock_alone(time.time())


def lines_of(machine: MachineKind, *categories: str, **more: Any) -> list[SurveyLine]:
    """A survey by the catalogue's own rules, of all or some of it; `more` hear of it."""
    rules = tuple(
        CategoryRule(category=key, rule=in_force([(Scope.CATALOGUE, kind.rule)]))
        for key, kind in catalogue().items()
        if not categories or key in categories
    )
    return survey(machine, Guard(machine), SurveyTask(rules, now()), SurveyListener(**more))


def ledger_of(machine: MachineKind, category: str) -> SurveyLine | None:
    """The line of one category, of such a survey."""
    return next(iter(lines_of(machine, category)), None)


class Bench:
    """A machine to look at and clean, as an order would."""

    def __init__(
        self, machine: MachineKind, folder: Path, *, protect: Sequence[ProtectEntry] = ()
    ) -> None:
        self.machine = machine
        self.protect = protect
        own = folder / "agent"
        own.mkdir(exist_ok=True)
        self.hold = Hold(machine, str(own))
        self.guard = Guard(machine, [str(own), *self.hold.possible()])
        self.listing: list[Item] = []
        self._journal = RunJournal.begin(
            folder / "1.jsonl", SurveyOrder(run_id=1, lease="l", rules=()), "now", []
        )

    def look(self, category: str, **said: object) -> SurveyLine | None:
        self.listing.clear()
        lines = survey(
            self.machine,
            self.guard,
            SurveyTask(
                (CategoryRule(category=category, rule=rule(**said)),), now(), tuple(self.protect)
            ),
            SurveyListener(listing=lambda _, item: self.listing.append(item)),
        )
        return lines[0] if lines else None

    def clean(
        self,
        category: str,
        *,
        agreed: list[Item] | None = None,
        standing: bool = False,
        watch: Watcher = lambda category, items, size: None,
        **said: object,
    ) -> tuple[CategoryOutcome, Cleaner]:
        listings = [AgreedListing(category=category, consent_id=1, items=tuple(agreed or ()))]
        task = CleaningPass(
            run_id=1,
            keys=(category,),
            rules=(CategoryRule(category=category, rule=rule(**said)),),
            now=now(),
            protect=tuple(self.protect),
            standing=(category,) if standing else (),
            agreed=tuple(listings) if agreed is not None else (),
        )
        cleaner = self.cleaner(task, watch)
        cleaner.clean(category)
        return cleaner.outcome(category), cleaner

    def cleaner(
        self, task: CleaningPass, watch: Watcher = lambda category, items, size: None
    ) -> Cleaner:
        return Cleaner(self.machine, self.guard, self._journal, self.hold, task, watch)


class Desk:
    """A machine, and an agent that reaches no service."""

    def __init__(self, machine: MachineKind, own: Path) -> None:
        self.machine = machine
        self.own = own
        own.mkdir(exist_ok=True)

    @property
    def hold(self) -> Hold:
        """As an agent that starts now would see it."""
        return Hold(self.machine, str(self.own))

    def worker(self) -> OrderRunner:
        reserve = Reserve(self.own / "reserve")
        hold = Hold(self.machine, str(self.own), reserve=Reserve(self.own / "reserve-hold"))
        guard = Guard(self.machine, [str(self.own), *hold.possible()])
        return OrderRunner(
            Crew(self.machine, guard, hold),
            Sender(AgentLink("http://127.0.0.1:9", "key"), Spool(self.own / "spool", reserve)),
            self.own / "runs",
            lambda: False,
            reserve,
        )

    def carry_out(self, order: Order) -> None:
        self.worker().carry_out(order)

    def take_up(self) -> None:
        """As an agent does when it starts."""
        for path in sorted((self.own / "runs").glob("*.jsonl")):
            order = RunJournal.order_in(path)
            if order is None:
                path.unlink()
            else:
                self.carry_out(order)

    def in_a_child(self, action: Callable[[], None], *, killed_at: int) -> bool:
        """Do it in a process that ends, without a word, at that step; True where it came to it."""
        child = os.fork()
        if child == 0:
            steps = 0

            def step(name: str) -> None:
                nonlocal steps
                steps += 1
                if steps == killed_at:
                    os._exit(KILLED)

            files.step = step
            try:
                action()
                os._exit(0)
            finally:
                os._exit(1)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        assert code in (0, KILLED)
        return code == KILLED

    def results(self) -> list[ResultMessage]:
        """What the service would be told, each message once."""
        spool = Spool(self.own / "spool")
        found = {m.id: m for _, m, _ in spool.waiting() if isinstance(m, ResultMessage)}
        return list(found.values())

    def held(self) -> Counter[str]:
        return Counter(
            f"{one.root}/{'/'.join((*one.folders, one.name))}"
            for batch in self.hold.batches()
            for one in batch.held()
        )
