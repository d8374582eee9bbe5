"""Carrying out one order, and saying truthfully how it went."""

from __future__ import annotations

import logging
import uuid
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.run_journal import JournalError, OddJournalError, RunJournal
from phylax.agent.config.guard import Guard
from phylax.agent.hold.hold import Hold
from phylax.agent.machines import MachineKind
from phylax.agent.outbox.merging import Waiting, gathered
from phylax.agent.outbox.progress import Pages, Parts, ProgressReporter
from phylax.agent.outbox.spool import Spool
from phylax.agent.platform.clock import Clock, OwnClock
from phylax.agent.platform.reserve import Reserve
from phylax.agent.survey.surveyor import OutOfTime, Stopped
from phylax.agent.workers.crew import Crew, Pass
from phylax.client import AgentLink, RefusedError, UnreachableError
from phylax.core.catalogue import category
from phylax.core.protocol import (
    AgreedListing,
    CleanOrder,
    HeldOrder,
    Message,
    Order,
    Progress,
    ResultMessage,
    SurveyMessage,
    SurveyOrder,
)
from phylax.core.retention import Caution, ProtectEntry
from phylax.core.survey import Item, Look, SurveyLine, Tally, covers, merged

_WORTH_BYTES, _WORTH_SHARE = 2**20, 100
"""A further pass is worth it for so many bytes, and for one part in so many of what went."""
_log = logging.getLogger("phylax.agent")


class ShutDown(Exception):
    """The agent itself is to stop; the run is taken up again at its next start."""


class OrderRunner:
    """Carries out orders on one machine."""

    def __init__(
        self,
        machine: MachineKind,
        guard: Guard,
        hold: Hold,
        link: AgentLink,
        spool: Spool,
        runs: Path,
        shutting_down: Callable[[], bool],
        reserve: Reserve | None = None,
        crew: Crew | None = None,
        clock: Clock | None = None,
    ) -> None:
        self._machine = machine
        self._guard = guard
        self._hold = hold
        self._link = link
        self._spool = spool
        self._runs = runs
        self._shutting_down = shutting_down
        self._reserve = reserve
        self._crew = crew or Crew(machine, guard, hold)
        self._clock = clock or OwnClock()

    def carry_out(self, order: Order) -> None:
        """Do what is ordered. The result is in the spool when this returns.

        Raises ShutDown where the agent is to stop; the journal then stays for the next start.
        """
        started = datetime.now(UTC)
        path = self._runs / f"{order.run_id}.jsonl"
        self._make_way(path, order)
        # what a run that was cut off had moved aside lies where it lay again, before its journal is
        # asked what has gone
        self._crew.recover()
        before = self._machine.volumes()
        journal = RunJournal.begin(
            path, order, started.isoformat(), before, self._reserve, self._crew.gone_in
        )
        try:
            self._spool.put(self._result(order, journal))
        except ShutDown:
            journal.close()
            raise
        journal.finish()

    def _make_way(self, path: Path, order: Order) -> None:
        """A journal of the same number by another order is of a run that the service no longer
        knows, for it was set back: it is kept beside, never gone on with."""
        try:
            other = RunJournal.order_in(path)
        except FileNotFoundError:
            return
        except OddJournalError:
            other = None
        same = {"lease"} if other is not None else set()
        if other is None or other.model_dump(exclude=same) != order.model_dump(exclude=same):
            refused = self._runs / "refused"
            refused.mkdir(exist_ok=True)
            path.replace(refused / f"{path.stem}.{uuid.uuid4().hex[:8]}.jsonl")

    def _result(self, order: Order, journal: RunJournal) -> ResultMessage:
        did: dict[str, Any] = {}
        try:
            match order:
                case SurveyOrder():
                    self._look(order, Look.FIRST)
                case CleanOrder():
                    did = _Cleaning(self, order, journal).carry_out()
                case HeldOrder():
                    teller = ProgressReporter(_Told(self, order), order.kind, order.expect)
                    did = self._crew.held_work(self._spool, order, journal, teller.watch)
        except Stopped as stop:
            did[_why(stop)] = True
        except (OSError, JournalError, KeyError, ValueError) as failure:
            _log.exception("run %s failed", order.run_id)
            did["error"] = f"{type(failure).__name__}: {failure}"
        return ResultMessage(
            # the same for the same work: if we are cut off after spooling it, it still counts once
            id=f"result-{order.run_id}-{order.lease}",
            run_id=order.run_id,
            started_at=datetime.fromisoformat(journal.begun["started_at"]),
            ended_at=datetime.now(UTC),
            before=journal.before,
            after=tuple(self._machine.volumes()),
            resumed=journal.resumed,
            uncertain=journal.uncertain,
            **did,
        )

    def _look(self, order: SurveyOrder | CleanOrder, look: Look) -> list[SurveyLine]:
        started = datetime.now(UTC)
        pages = Pages(self._spool, order.run_id, look)
        parts = Parts(self._report_now, order.run_id, look, started)
        step: Any = look.value
        watch = ProgressReporter(_Told(self, order), step, order.expect).watch
        surveyed: list[SurveyLine] = []
        there: set[ProtectEntry] = set()
        crew = self._crew.parties()
        for party in crew:
            # a category that several have a part of is shown when all of them were looked at
            part = parts.add if len(crew) == 1 else _say_nothing
            now = self._clock.believed()
            surveyed += party.look(
                order.look, order.protect, now, watch, pages.add, part, there.add, remember=True
            )
        lines = merged(surveyed)
        pages.send()
        self._spool.put(
            SurveyMessage(
                id=uuid.uuid4().hex,
                run_id=order.run_id,
                look=look,
                started_at=started,
                ended_at=datetime.now(UTC),
                lines=tuple(lines),
                covers=covers(order.protect, lines, there),
            )
        )
        # sent along the way, so that people see it; if not now, then with the result
        with suppress(UnreachableError, RefusedError):
            self.send_spooled()
        return lines

    def _report_now(self, message: Message) -> None:
        """Send what is worth nothing later; lost where the service is not to be had."""
        with suppress(UnreachableError, RefusedError):
            self._link.report(message)

    def send_spooled(self) -> None:
        """Send what waits, oldest first.

        UnreachableError or RefusedError where the service is not to be had; the rest stays kept.
        """
        for waiting in gathered(self._spool.waiting()):
            if self._send(waiting):
                continue
            # one that is refused must not take others with it
            for single in waiting.of:
                if len(waiting.of) == 1 or not self._send(
                    Waiting(single.message, single.age, [single])
                ):
                    self._spool.was_refused(single.path)

    def _send(self, waiting: Waiting) -> bool:
        """Whether the service took it; False where it never will."""
        try:
            self._link.report(waiting.message, age=waiting.age)
        except RefusedError as error:
            if error.status not in (409, 413, 422):
                raise
            names = ", ".join(single.path.name for single in waiting.of)
            _log.error("the service will not take %s: %s", names, error)
            return False
        for single in waiting.of:
            self._spool.taken(single.path)
        return True


def _why(stop: Stopped) -> str:
    """The field of the result that says why the work was stopped."""
    return "out_of_time" if isinstance(stop, OutOfTime) else "called_off"


class _Told:
    """The service, told how far one order is."""

    def __init__(self, worker: OrderRunner, order: Order) -> None:
        self._worker = worker
        self._order = order

    def check(self) -> None:
        if self._worker._shutting_down():
            raise ShutDown
        order = self._order
        if not isinstance(order, HeldOrder) and order.end_by and datetime.now(UTC) >= order.end_by:
            raise OutOfTime

    def tell(self, progress: Progress) -> None:
        """Stopped where the service says not to go on."""
        try:
            go_on = self._worker._link.progress(self._order.run_id, self._order.lease, progress)
        except (UnreachableError, RefusedError) as error:
            # the work is worth finishing; its result is kept until it can be sent
            _log.info("progress not told: %s", error)
            return
        if not go_on:
            raise Stopped


def _say_nothing(lines: list[SurveyLine]) -> None:
    """Nobody is shown a part of a look."""


class _Cleaning:
    """One cleaning: look, clean, look whether a rest is worth a further pass, look again."""

    def __init__(self, worker: OrderRunner, order: CleanOrder, journal: RunJournal) -> None:
        self._worker = worker
        self._order = order
        self._journal = journal
        self._outcomes = Outcomes()
        self._again: dict[str, list[Item]] = {}
        """By category: what was agreed to and left because it, or its program, was open."""
        self._refused: dict[str, int] = {}
        self._passes = 0

    def carry_out(self) -> dict[str, Any]:
        """What became of it, as fields of the result."""
        order, did = self._order, dict[str, Any]()
        try:
            expect = order.expect_gone
            if order.look_first:
                expect = _promised(self._worker._look(order, Look.FIRST), order)
            self._pass("clean", order.clean, order.agreed, expect)
            if rest := self._rest():
                again = tuple(
                    AgreedListing(category=key, consent_id=0, items=tuple(items))
                    for key, items in self._again.items()
                    if items and key in rest
                )
                self._again.clear()
                self._pass("further pass", tuple(rest), again, None)
            self._worker._look(order, Look.SECOND)
        except Stopped as stop:
            did[_why(stop)] = True
        except (OSError, JournalError, KeyError, ValueError) as failure:
            _log.exception("run %s failed", order.run_id)
            did["error"] = f"{type(failure).__name__}: {failure}"
        outcomes, crew = self._outcomes, self._worker._crew
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
        step: Any,
        keys: tuple[str, ...],
        agreed: tuple[AgreedListing, ...],
        expect: Tally | None,
    ) -> None:
        order, worker = self._order, self._worker
        watch = ProgressReporter(_Told(worker, order), step, expect).watch
        self._passes += 1
        task = Pass(
            run_id=order.run_id,
            look=order.look,
            protect=order.protect,
            keys=keys,
            standing=order.standing,
            agreed=agreed,
            now=worker._clock.believed(),
        )
        for party in worker._crew.parties():
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
        look = tuple(rule for rule in order.look if rule.category in by_rule)
        watch = ProgressReporter(_Told(self._worker, order), "second look", None).watch
        now = self._worker._clock.believed()
        lines = [
            line
            for party in self._worker._crew.parties()
            for line in party.look(look, order.protect, now, watch, _list_nothing, _say_nothing)
        ]
        went = sum(self._journal.removed_of(key).size for key in order.clean)
        worth = [key for key in order.clean if self._again.get(key)]
        for key in by_rule:
            goes = sum(line.goes.size for line in lines if line.category == key)
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


def _list_nothing(category: str, item: Item) -> None:
    """Listings were kept in the first look."""


def _promised(lines: list[SurveyLine], order: CleanOrder) -> Tally:
    """What a look says will go by this order."""
    going = [
        line.goes
        for line in lines
        if line.category in order.clean
        and (category(line.category).caution is Caution.SAFE or line.category in order.standing)
    ]
    agreed = [
        Tally(count=len(listing.items), size=sum(item.size for item in listing.items))
        for listing in order.agreed
    ]
    return sum([*going, *agreed], Tally())
