"""Carrying out one order, and saying truthfully how it went."""

from __future__ import annotations

import logging
import uuid
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any

from phylax.agent.account.run_journal import JournalError, OddJournalError, RunJournal
from phylax.agent.outbox.sending import Sender
from phylax.agent.platform.clock import Clock, OwnClock
from phylax.agent.platform.reserve import Reserve
from phylax.agent.runtime.action_runner import act
from phylax.agent.runtime.check_runner import look_by_checks
from phylax.agent.runtime.cleaning_run import CleaningRun
from phylax.agent.runtime.reporter import OrderListener, ShutDown, why_stopped
from phylax.agent.runtime.settings_run import SettingsRun
from phylax.agent.runtime.snapshots import take_snapshot
from phylax.agent.runtime.survey_runner import look_at_settings, look_through
from phylax.agent.survey.task import Stopped
from phylax.agent.workers.crew import Crew
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.protocol import (
    ActOrder,
    ChangeSettingsOrder,
    ChangesMessage,
    CheckOrder,
    CleanOrder,
    CompareOrder,
    HeldOrder,
    Order,
    PutSettingsBackOrder,
    ReadSettingsOrder,
    ResultMessage,
    SurveyOrder,
)
from phylax.core.survey import SurveyKind, SurveyLine
from phylax.core.survey.conditions import why_otherwise
from phylax.core.tuning.changes import ChangeMade

_log = logging.getLogger("phylax.agent")


class NotAsShownError(ValueError):
    """The machine is not as it was when somebody agreed to an order: nothing is done."""


class OrderRunner:
    """Carries out orders on one machine."""

    def __init__(
        self,
        crew: Crew,
        sender: Sender,
        runs: Path,
        shutting_down: Callable[[], bool],
        reserve: Reserve | None = None,
        clock: Clock | None = None,
    ) -> None:
        """`runs` is the folder of the runs' journals; `reserve` lends them room."""
        self._crew = crew
        self._sender = sender
        self._runs = runs
        self._shutting_down = shutting_down
        self._reserve = reserve
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
        self.recover_settings()
        before = self._crew.machine.volumes()
        journal = RunJournal.begin(
            path, order, started.isoformat(), before, self._reserve, self._crew.gone_in
        )
        try:
            self._sender.spool.put(self._result(order, journal))
        except ShutDown:
            journal.close()
            raise
        journal.finish()

    def recover_settings(self) -> None:
        """Undo a change of settings that was cut off in the middle."""
        self._settings().recover()

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
        listener = OrderListener(self._sender.link, order, self._shutting_down)
        try:
            if isinstance(order, SurveyOrder | CleanOrder):
                self._check_volumes(order.volumes)
            if isinstance(order, CleanOrder) and not journal.resumed:
                self._check_conditions(order)
            match order:
                case SurveyOrder():
                    if order.snapshot:
                        take_snapshot(order.run_id, "before", self._crew, self._sender.spool)
                    self._look(order, SurveyKind.FIRST, listener)
                    if order.settings:
                        look_at_settings(order.run_id, self._crew, self._sender, self._settings())
                case CleanOrder():
                    if order.snapshot:
                        take_snapshot(order.run_id, "before", self._crew, self._sender.spool)
                    look = partial(self._look, order, listener=listener)
                    did = CleaningRun(
                        order, journal, self._crew, self._clock, listener, look
                    ).carry_out()
                    if order.settings:
                        look_at_settings(order.run_id, self._crew, self._sender, self._settings())
                case CheckOrder():
                    if order.snapshot:
                        take_snapshot(order.run_id, "before", self._crew, self._sender.spool)
                    look_by_checks(order, self._crew, self._sender.spool, listener)
                case ActOrder():
                    did = act(
                        order, self._crew, journal, self._sender.spool, listener,
                        lambda: look_at_settings(
                            order.run_id, self._crew, self._sender, self._settings()
                        ),
                    )  # fmt: skip
                case CompareOrder():
                    take_snapshot(order.run_id, "after", self._crew, self._sender.spool)
                case ReadSettingsOrder():
                    look_at_settings(order.run_id, self._crew, self._sender, self._settings())
                case ChangeSettingsOrder():
                    did = self._changed(order.run_id, self._settings().change(order))
                case PutSettingsBackOrder():
                    did = self._changed(order.run_id, self._settings().put_back(order))
                case HeldOrder():
                    watch = listener.watcher(order.kind, order.expected)
                    did = self._crew.held_work(self._sender.spool, order, journal, watch)
        except Stopped as stop:
            did[why_stopped(stop)] = True
        except NotAsShownError as failure:
            did["error"] = str(failure)
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
            after=tuple(self._crew.machine.volumes()),
            resumed=journal.resumed,
            uncertain=journal.uncertain,
            **did,
        )

    def _check_volumes(self, choice: VolumeChoice) -> None:
        """NotAsShownError where there is nothing to do on this machine."""
        mounts = [reading.mount for reading in self._crew.machine.volumes()]
        if mounts and not choice.of(mounts):
            have = ", ".join(mounts)
            raise NotAsShownError(
                f"it has none of the chosen volumes ({choice.in_words()}); it has {have}"
            )

    def _check_conditions(self, order: CleanOrder) -> None:
        """NotAsShownError where the machine is not as it was for the survey that was agreed to."""
        if order.shown_under is None:
            return
        now = self._crew.conditions()
        if why := why_otherwise(order.shown_under, now, order.volumes):
            raise NotAsShownError(
                f"changed since it was asked: {why}. Nothing was cleaned; survey again"
            )

    def _settings(self) -> SettingsRun:
        journal = self._runs.parent / "changes"
        guard = self._crew.guard
        return SettingsRun(self._crew.tuned, journal, guard.never_programs, guard.never_settings)

    def _changed(self, run_id: int, changes: list[ChangeMade]) -> dict[str, Any]:
        """What became of what was ordered; it and how things are now is in the spool."""
        message = ChangesMessage(id=uuid.uuid4().hex, run_id=run_id, changes=tuple(changes))
        self._sender.spool.put(message)
        look_at_settings(run_id, self._crew, self._sender, self._settings())
        refused = [change for change in changes if change.refused]
        return {
            "changed": len(changes) - len(refused),
            "refused": len(refused),
            "refusals": tuple(f"{change.shown}: {change.refused}"[:500] for change in refused),
        }

    def _look(
        self, order: SurveyOrder | CleanOrder, look: SurveyKind, listener: OrderListener
    ) -> list[SurveyLine]:
        return look_through(order, look, self._crew, self._clock, self._sender, listener)
