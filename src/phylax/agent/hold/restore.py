"""Putting held things back, or letting them go before their time, as ordered."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, datetime
from typing import Any

from phylax.agent.account.outcomes import Outcomes
from phylax.agent.account.reasons import why_left
from phylax.agent.account.run_journal import RunJournal
from phylax.agent.hold.batch import Batch, Held
from phylax.agent.hold.hold import Hold
from phylax.agent.outbox.spool import Spool
from phylax.agent.survey.task import Stopped, Watcher
from phylax.core.ground.tally import Tally
from phylax.core.hold.holds import BatchPick, IfTaken, as_ranges
from phylax.core.protocol import CategoryOutcome, HeldOrder, UnheldMessage
from phylax.core.retention import Reason

_RANGES = 20_000
"""Stretches of numbers in one message."""
Ranges = list[tuple[int, int]]


class HeldWork:
    """Carries out one order about held things.

    What was held when the work began stands in the run's journal; what of it is held no longer is
    what this run has done, however often it was cut off.
    """

    def __init__(
        self, hold: Hold, spool: Spool, order: HeldOrder, journal: RunJournal, watch: Watcher
    ) -> None:
        self._hold = hold
        self._spool = spool
        self._order = order
        self._journal = journal
        self._watch = watch
        self._outcomes = Outcomes()

    def carry_out(self) -> dict[str, Any]:
        """What became of it, as fields of the result."""
        did: dict[str, Any] = {}
        if not self._journal.present:
            self._journal.note_present({p.batch: self._present(p) for p in self._order.picks})
        try:
            for pick in self._order.picks:
                self._carry_out(pick)
        except Stopped:
            did["cancelled"] = True
        outcomes = [self._tell(pick) for pick in self._order.picks]
        did["outcomes"] = tuple(outcome for outcome in outcomes if outcome is not None)
        did["left"] = tuple(self._outcomes.named)
        self._hold.forget_sums()
        return did

    def _present(self, pick: BatchPick) -> Ranges:
        try:
            batch = self._hold.batch(pick.batch)
        except (OSError, ValueError):
            return []
        with closing(batch):
            return list(as_ranges(entry.number for entry in _wanted(batch, pick)))

    def _carry_out(self, pick: BatchPick) -> None:
        try:
            batch = self._hold.batch(pick.batch)
        except (OSError, ValueError):
            # on a volume that is not connected, deleted for good meanwhile, or never this machine's
            key = _category_in(pick.batch)
            reason = Reason.AWAY if self._hold.is_away(pick.batch) else Reason.GONE
            for _ in pick.numbers or (0,):
                self._outcomes.leave(key, pick.batch, "", 0, reason)
            return
        with closing(batch):
            for entry in _wanted(batch, pick):
                self._one(batch, entry)

    def _one(self, batch: Batch, entry: Held) -> None:
        key = batch.head.category
        try:
            if self._order.kind == "put back":
                batch.put_back(entry, beside=self._order.if_taken is IfTaken.BESIDE)
            else:
                whys: list[str] = []
                batch.let_go(entry.number, lambda path, why: whys.append(why))
                if whys:
                    detail = "; ".join(whys[:3])
                    self._outcomes.leave(
                        key, entry.place, entry.path, entry.size, Reason.FAILED, detail
                    )
        except FileExistsError as error:
            self._outcomes.leave(
                key, entry.place, entry.path, entry.size, Reason.TAKEN, error.strerror or ""
            )
        except OSError as error:
            reason, detail = why_left(error)
            if reason is Reason.GONE:
                # it is held; what is not there is the folder it lay in
                reason, detail = Reason.FAILED, "its folder no longer exists"
            self._outcomes.leave(key, entry.place, entry.path, entry.size, reason, detail)
        self._watch(key, 1, entry.size)

    def _tell(self, pick: BatchPick) -> CategoryOutcome | None:
        """Say which of a batch are held no longer, and what became of its category."""
        done, numbers = Tally(), []
        key = _category_in(pick.batch)
        try:
            batch = self._hold.batch(pick.batch)
        except (OSError, ValueError):
            return self._outcomes.of(key, Tally(), Tally())
        with closing(batch):
            wanted = Within(self._journal.present.get(pick.batch, []))
            for entry in batch.announced():
                if wanted(entry.number) and not batch.is_held(entry.number):
                    numbers.append(entry.number)
                    done += Tally(count=1, size=entry.size)
        ranges = list(as_ranges(numbers))
        for start in range(0, len(ranges), _RANGES):
            self._spool.put(
                UnheldMessage(
                    id=uuid.uuid4().hex,
                    batch=pick.batch,
                    status="put back" if self._order.kind == "put back" else "gone",
                    at=datetime.now(UTC),
                    numbers=tuple(ranges[start : start + _RANGES]),
                )
            )
        if self._order.kind == "put back":
            put_back = self._outcomes.of(key, Tally(), Tally())
            return put_back.model_copy(update={"put_back": done})
        return self._outcomes.of(key, done, Tally())


def _wanted(batch: Batch, pick: BatchPick) -> Iterator[Held]:
    return (entry for entry in batch.announced(pick.numbers) if batch.is_held(entry.number))


def _category_in(batch: str) -> str:
    return batch.split(".")[1]


class Within:
    """Whether an ascending number lies in ascending ranges."""

    def __init__(self, ranges: Ranges) -> None:
        self._ranges = iter(ranges)
        self._now = next(self._ranges, None)

    def __call__(self, number: int) -> bool:
        while self._now is not None and number > self._now[1]:
            self._now = next(self._ranges, None)
        return self._now is not None and self._now[0] <= number
