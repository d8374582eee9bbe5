"""How findings live on: they begin, get worse, come and go, are handled, and end.

One that ended and is back within a day is the same one still; one that did so again and again stays
until it has been away for a whole day. What a person settled or put off comes back when it got
worse.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta
from itertools import groupby
from operator import attrgetter
from typing import NamedTuple

from phylax.core.attention.findings import Attention, Cause, Finding

SAME_WITHIN = int(timedelta(days=1).total_seconds())
FLAPS = 3
"""Come so many times, it is said to come and go."""
SITE_FROM = 3
"""The same on so many machines of a client is one thing."""
_SITE = "client "

WORSE_BY = {
    Cause.NEARLY_FULL: 20,
    Cause.FILLING_FAST: 2,
    Cause.CROSSES_SOON: 14,
    Cause.MISSED: 2,
    Cause.SILENT: 14,
    Cause.HOLD_FILLS: 5,
    Cause.ALWAYS_LEFT: 5,
    Cause.WAITS_FOR_YES: 10,
}
"""By how much a grade must have risen to be worse; else by 1."""


class KeptFinding(NamedTuple):
    """A finding as it is kept. Times are epoch seconds."""

    id: int
    cause: Cause
    subject: str
    grade: int
    last_seen: int
    times: int = 1
    ended_at: int | None = None
    handled_grade: int | None = None
    text: str = ""
    """What was found, as it is written down."""


class Keep(NamedTuple):
    """What is to be done with what is kept."""

    begin: list[Finding]
    again: list[tuple[KeptFinding, Finding]]
    """It had ended not long ago, and is back."""
    still: list[tuple[KeptFinding, Finding]]
    end: list[KeptFinding]


def is_worse(cause: Cause, before: int | None, now: int) -> bool:
    return before is not None and now >= before + WORSE_BY.get(cause, 1)


def keep(findings: Iterable[Finding], kept: Iterable[KeptFinding], now: int) -> Keep:
    """What becomes of what is kept for one machine, now that this was found."""
    known = {(entry.cause, entry.subject): entry for entry in sorted(kept, key=_open_last)}
    todo = Keep([], [], [], [])
    for entry in findings:
        before = known.pop((entry.cause, entry.subject), None)
        if before is None or (before.ended_at and now - before.ended_at > SAME_WITHIN):
            todo.begin.append(entry)
        elif before.ended_at is not None:
            todo.again.append((before, entry))
        else:
            todo.still.append((before, entry))
    todo.end.extend(
        entry
        for entry in known.values()
        if entry.ended_at is None and not _may_come_back(entry, now)
    )
    return todo


def _open_last(kept: KeptFinding) -> tuple[bool, int]:
    return kept.ended_at is None, kept.ended_at or 0


def _may_come_back(kept: KeptFinding, now: int) -> bool:
    return kept.times >= FLAPS and now - kept.last_seen < SAME_WITHIN


def in_order(attention: Iterable[Attention]) -> list[Attention]:
    """Most urgent first, what belongs together side by side; each with its group.

    The same cause on many machines of one client is one thing; all else goes by machine.
    """
    ordered = sorted(attention, key=lambda item: (-item.urgency, item.machine_tag, item.id))
    machines: dict[tuple[Cause, int], set[int]] = {}
    for item in ordered:
        machines.setdefault((item.cause, item.client_id), set()).add(item.machine_id)

    def group(item: Attention) -> str:
        if len(machines[item.cause, item.client_id]) >= SITE_FROM:
            return f"{_SITE}{item.client_id}: {item.cause}"
        return f"machine {item.machine_id}"

    groups: dict[str, list[Attention]] = {}
    for item in ordered:
        name = group(item)
        groups.setdefault(name, []).append(item.model_copy(update={"group": name}))
    return [item for together in groups.values() for item in together]


class Together(NamedTuple):
    """What is shown as one thing: a machine's, or the same on many machines of a client."""

    items: tuple[Attention, ...]
    is_site: bool


def in_groups(ordered: Iterable[Attention]) -> list[Together]:
    """Neighbours of one group together; from `in_order`."""
    groups = (tuple(group_items) for _, group_items in groupby(ordered, key=attrgetter("group")))
    return [Together(items, items[0].group.startswith(_SITE)) for items in groups]


def machines_that_need(attention: Sequence[Attention]) -> int:
    return len({item.machine_id for item in attention if item.needs_somebody})
