"""The agent's engine as an order drives it: look at a category, clean it, say what became of it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from phylax.agent.cleaner import Cleaner
from phylax.agent.guard import Guard
from phylax.agent.hold import Hold
from phylax.agent.journal import RunJournal
from phylax.agent.machines import InUse, MachineKind
from phylax.agent.machines.linux import LinuxMachine
from phylax.agent.surveyor import Watcher, survey
from phylax.core.catalogue import catalogue
from phylax.core.orders import AgreedListing, CategoryOutcome, CategoryRule, SurveyOrder
from phylax.core.retention import ProtectEntry, Rule, RuleInForce, Scope, in_force
from phylax.core.survey import Item, SurveyLine


def rule(**said: object) -> RuleInForce:
    default = (Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=1)))
    return in_force([default, (Scope.MACHINE, Rule.model_validate(said))])


class NothingRuns(LinuxMachine):
    """This machine, with no program running: the tests' own browser must not matter."""

    def in_use(self) -> InUse:
        return InUse(super().in_use().files)


def lines_of(machine: MachineKind, **more: Any) -> list[SurveyLine]:
    """A survey by the whole catalogue and its own rules."""
    look = [
        CategoryRule(category=key, rule=in_force([(Scope.CATALOGUE, kind.rule)]))
        for key, kind in catalogue().items()
    ]
    return survey(machine, Guard(machine), look, datetime.now(UTC), **more)


def ledger_of(machine: MachineKind, category: str) -> SurveyLine | None:
    """The line of one category, of such a survey."""
    return next((line for line in lines_of(machine) if line.category == category), None)


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
            folder / "1.jsonl", SurveyOrder(run_id=1, lease="l", look=()), "now", []
        )

    def look(self, category: str, **said: object) -> SurveyLine | None:
        self.listing.clear()
        lines = survey(
            self.machine,
            self.guard,
            [CategoryRule(category=category, rule=rule(**said))],
            datetime.now(UTC),
            protect=self.protect,
            listing=lambda _, item: self.listing.append(item),
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
        by = rule(**said)
        cleaner = Cleaner(
            self.machine,
            self.guard,
            self._journal,
            self.hold,
            1,
            datetime.now(UTC),
            watch,
            own_folders=by.folders,
            protect=self.protect,
        )
        listings = [AgreedListing(category=category, consent_id=1, items=tuple(agreed or ()))]
        cleaner.clean(category, by, listings if agreed is not None else [], standing=standing)
        return cleaner.outcome(category), cleaner
