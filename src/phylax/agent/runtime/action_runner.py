"""Carrying out an action of the fixed set; what became of each part of it is told."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any, Final

from phylax.agent.account.run_journal import RunJournal
from phylax.agent.machines.upkeep import Watch
from phylax.agent.outbox.long_work import LongWork
from phylax.agent.outbox.spool import Spool
from phylax.agent.runtime.check_runner import look_by_check
from phylax.agent.runtime.reporter import OrderListener
from phylax.agent.runtime.restarting import restart
from phylax.agent.workers.crew import Crew
from phylax.core.actions import ActEnd, ActionPart, Restart, UnderWay
from phylax.core.actions.acted import MOST_PARTS
from phylax.core.protocol import ActionMessage, ActOrder

_PART: Final = "part "
_UNDER_WAY: Final = "under way"
_LOOKED_AT_AGAIN = {
    "install-updates": ("updates", "programs"),
    "remove-program": ("programs",),
    "arrange-disks": ("fragmentation",),
}
"""What an action alters, by the checks that list it."""


def act(
    order: ActOrder,
    crew: Crew,
    journal: RunJournal,
    spool: Spool,
    listener: OrderListener,
    recheck: Callable[[], None],
) -> dict[str, Any]:
    """Do what is ordered; as fields of the result. What became of it is in the spool when this
    returns or raises Stopped; ShutDown leaves it for the next start, where it is gone on with.

    `recheck` is called after what may have changed what starts by itself.
    """
    started = datetime.now(UTC)
    watch = LongWork(listener, "act", order.action.action, order.earlier)
    parts = [
        ActionPart.model_validate(value)
        for name, value in journal.noted.items() if name.startswith(_PART)
    ]  # fmt: skip
    ended = False
    try:
        for part in _parts(order, crew, journal, watch):
            if isinstance(part, UnderWay):
                journal.note(_UNDER_WAY, part.model_dump(mode="json"))
                continue
            parts.append(part)
            journal.note(f"{_PART}{len(parts)}", part.model_dump(mode="json"))
        ended = True
    except OSError as failure:
        why = (failure.strerror or type(failure).__name__)[:400]
        parts.append(ActionPart(target="", end=ActEnd.FAILED, why=why))
        ended = True
    finally:
        if parts := _newest(parts):
            # the same for the same work: where it was cut off and gone on with it is told anew
            message = ActionMessage(
                id=f"acted-{order.run_id}-{order.lease}-{journal.resumed}-{int(ended)}",
                run_id=order.run_id,
                action=order.action.action,
                parts=tuple(parts[:MOST_PARTS]),
                ended=ended,
                started_at=started,
                ended_at=datetime.now(UTC),
            )
            spool.put(message)
    if any(part.end is ActEnd.DONE for part in parts):
        for key in _LOOKED_AT_AGAIN.get(order.action.action, ()):
            look_by_check(order.run_id, key, "", crew, watch, spool)
        if order.action.action in ("install-updates", "remove-program"):
            recheck()
    wrong = [part for part in parts if part.end in (ActEnd.FAILED, ActEnd.REFUSED)]
    return {
        "is_action": True,
        "refused": len(wrong),
        "refusals": tuple(part.in_words[:500] for part in wrong[:20]),
    }


def _parts(
    order: ActOrder, crew: Crew, journal: RunJournal, watch: Watch
) -> Iterator[ActionPart | UnderWay]:
    action = order.action
    if action.action in crew.guard.never_checks:
        why = "named by this machine's own guard"
    elif order.protect_findings:
        why = f"findings first: {order.protect_findings}"
    else:
        why = ""
    if why:
        yield ActionPart(target="", end=ActEnd.REFUSED, why=why[:500])
    elif isinstance(action, Restart):
        if crew.guard.never_restarts:
            why = "this machine's own guard says that it is never restarted"
            yield ActionPart(target="", end=ActEnd.REFUSED, why=why)
        else:
            yield restart(action, crew.machine.restarting(), journal, watch)
    else:
        noted = journal.noted.get(_UNDER_WAY)
        cut_off = None if noted is None else UnderWay.model_validate(noted)
        yield from crew.machine.act(action, watch, cut_off)


def _newest(parts: Sequence[ActionPart]) -> list[ActionPart]:
    """Of each volume, update or program what was last said of it. That there was nothing to do is
    said only where nothing was done."""
    newest: dict[str, ActionPart] = {}
    for part in parts:
        if part.end is not ActEnd.NOTHING or part.target not in newest:
            newest[part.target] = part
    whole = newest.get("")
    if whole is not None and whole.end is ActEnd.NOTHING and len(newest) > 1:
        del newest[""]
    return list(newest.values())
