"""One cleaning, from the survey before it to the survey after it."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.run_journal import JournalError, RunJournal
from phylax.agent.cleaning.task import CleaningPass
from phylax.agent.platform.clock import Clock
from phylax.agent.runtime.reporter import OrderListener, why_stopped
from phylax.agent.survey.task import Stopped, SurveyListener, SurveyTask
from phylax.agent.workers.crew import Crew
from phylax.core.catalogue import category
from phylax.core.ground.tally import Tally
from phylax.core.protocol import AgreedListing, CleanOrder, Step
from phylax.core.retention import Caution
from phylax.core.survey import Item, SurveyKind, SurveyLine

_WORTH_BYTES, _WORTH_SHARE = 2**20, 100
"""A further pass is worth it for so many bytes, and for one part in so many of what went."""
_log = logging.getLogger("phylax.agent")


class CleaningRun:
    """One cleaning: look, clean, look whether a rest is worth a further pass, look again."""

    def __init__(
        self,
        order: CleanOrder,
        journal: RunJournal,
        crew: Crew,
        clock: Clock,
        listener: OrderListener,
        look: Callable[[SurveyKind], list[SurveyLine]],
    ) -> None:
        """`look` looks through what the order names, and has it reported."""
        self._order = order
        self._journal = journal
        self._crew = crew
        self._clock = clock
        self._listener = listener
        self._look = look
        self._outcomes = Outcomes()
        self._again: dict[str, list[Item]] = {}
        """By category: what was agreed to and left because it, or its program, was open."""
        self._refused: dict[str, int] = {}
        self._passes = 0

    def carry_out(self) -> dict[str, Any]:
        """What became of it, as fields of the result."""
        order, did = self._order, dict[str, Any]()
        try:
            expect = order.expected_removed
            if order.survey_first:
                expect = _promised(self._look(SurveyKind.FIRST), order)
            self._pass("clean", order.clean, order.agreed, expect)
            if rest := self._rest():
                again = tuple(
                    AgreedListing(category=key, consent_id=0, items=tuple(items))
                    for key, items in self._again.items()
                    if items and key in rest
                )
                self._again.clear()
                self._pass("further pass", tuple(rest), again, None)
            self._look(SurveyKind.SECOND)
        except Stopped as stop:
            did[why_stopped(stop)] = True
        except (OSError, JournalError, KeyError, ValueError) as failure:
            _log.exception("run %s failed", order.run_id)
            did["error"] = f"{type(failure).__name__}: {failure}"
        outcomes, crew = self._outcomes, self._crew
        did["outcomes"] = tuple(
            outcomes.of(
                key, self._journal.removed_of(key), crew.held_of(self._journal.identity, key)
            )
            for key in order.clean
        )
        did["left"] = tuple(outcomes.named)
        did["passes"] = self._passes
        if outcomes.problems and "error" not in did:
            did["error"] = "; ".join(dict.fromkeys(outcomes.problems))
        return did

    def _pass(
        self,
        step: Step,
        keys: tuple[str, ...],
        agreed: tuple[AgreedListing, ...],
        expect: Tally | None,
    ) -> None:
        order = self._order
        watch = self._listener.watcher(step, expect)
        self._passes += 1
        task = CleaningPass(
            run_id=order.run_id,
            keys=keys,
            rules=order.rules,
            now=self._clock.believed(),
            protect=order.protect,
            standing=order.standing,
            agreed=agreed,
            volumes=order.volumes,
        )
        for party in self._crew.parties():
            report = party.clean(task, self._journal, watch)
            for key in keys:
                self._outcomes.absorb(report.outcomes.of(key))
                self._refused[key] = self._refused.get(key, 0) + report.refused.get(key, 0)
                self._again.setdefault(key, []).extend(report.again.get(key, ()))
            self._outcomes.name(report.outcomes.named)
            self._outcomes.problems += report.problems
            if report.stopped is not None:
                raise report.stopped

    def _rest(self) -> list[str]:
        """The categories of which a further pass would gain enough: what was open and is closed by
        now, what has come since. What the machine would not let go of is not tried twice."""
        order = self._order
        listed = {listing.category for listing in order.agreed}
        by_rule = [key for key in order.clean if key not in listed]
        look = tuple(rule for rule in order.rules if rule.category in by_rule)
        task = SurveyTask(look, self._clock.believed(), order.protect, order.volumes)
        hears = SurveyListener(self._listener.watcher("second look", None))
        lines = [line for party in self._crew.parties() for line in party.look(task, hears)]
        went = sum(self._journal.removed_of(key).size for key in order.clean)
        worth = [key for key in order.clean if self._again.get(key)]
        for key in by_rule:
            goes = sum(line.removable.size for line in lines if line.category == key)
            gain = goes - self._refused.get(key, 0)
            if key not in worth and gain >= max(_WORTH_BYTES, went // _WORTH_SHARE):
                worth.append(key)
        for key in worth:
            if key in listed:
                # only what was left for being open, the rest of what was agreed is not gone over
                self._outcomes.forget_open(key)
            else:
                self._outcomes.forget(key)
        return worth


def _promised(lines: list[SurveyLine], order: CleanOrder) -> Tally:
    """What a survey says will go by this order."""
    going = [
        line.removable
        for line in lines
        if line.category in order.clean
        and (category(line.category).caution is Caution.SAFE or line.category in order.standing)
    ]
    agreed = [
        Tally(count=len(listing.items), size=sum(item.size for item in listing.items))
        for listing in order.agreed
    ]
    return sum([*going, *agreed], Tally())
