"""The agent's engine as an order drives it: look at a category, clean it, say what became of it."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from phylax.agent.cleaner import Cleaner
from phylax.agent.guard import Guard
from phylax.agent.journal import RunJournal
from phylax.agent.machines import MachineKind
from phylax.agent.surveyor import Watcher, survey
from phylax.core.orders import AgreedListing, CategoryOutcome, CategoryRule, SurveyOrder
from phylax.core.retention import Rule, RuleInForce, Scope, in_force
from phylax.core.survey import Item, SurveyLine


def rule(**said: object) -> RuleInForce:
    default = (Scope.CATALOGUE, Rule(off=False, keep_for=timedelta(days=1)))
    return in_force([default, (Scope.MACHINE, Rule.model_validate(said))])


class Bench:
    """A machine to look at and clean, as an order would."""

    def __init__(self, machine: MachineKind, folder: Path) -> None:
        self.machine = machine
        self.guard = Guard(machine)
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
            listing=lambda _, item: self.listing.append(item),
        )
        return lines[0] if lines else None

    def clean(
        self,
        category: str,
        *,
        agreed: list[Item] | None = None,
        watch: Watcher = lambda category, items, size: None,
        **said: object,
    ) -> tuple[CategoryOutcome, Cleaner]:
        cleaner = Cleaner(self.machine, self.guard, self._journal, datetime.now(UTC), watch)
        listings = [AgreedListing(category=category, consent_id=1, items=tuple(agreed or ()))]
        cleaner.clean(category, rule(**said), listings if agreed is not None else [])
        outcome = cleaner.outcomes.of(category, self._journal.removed_of(category))
        return outcome, cleaner
