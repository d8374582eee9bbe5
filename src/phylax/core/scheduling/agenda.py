"""The agenda: what runs where, when and how long, and what gets in each other's way."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import timedelta

from pydantic import Field

from phylax.core.ground.quantities import count, show_span
from phylax.core.ground.values import Moment, Span, Value


class AgendaClient(Value):
    """One client's part in an occurrence."""

    client_id: int
    client_name: str
    machines: int
    expected_duration: Span = Field(
        description="Until the last of them is done, one after the other where no more may work "
        "at once"
    )


class AgendaLine(Value):
    """One occurrence of a round, over all its machines in one time zone."""

    round_id: int
    round_name: str
    routine_name: str
    occurs_at: Moment
    opens_at: Moment
    closes_at: Moment | None = Field(None, description="When it must have ended")
    ends_at: Moment = Field(description="When the last machine is expected to be through")
    zone: str
    clients: tuple[AgendaClient, ...] = ()
    machines: int = 0
    states: dict[str, int] = Field({}, description="How many runs are in which state, if made")
    note: str = ""
    clashes: tuple[str, ...] = ()
    cancelled: bool = Field(False, description="Was announced, and will not be")


class Agenda(Value):
    since: Moment
    until: Moment
    lines: tuple[AgendaLine, ...]


def site_takes(takes: Sequence[timedelta], at_once: int | None) -> timedelta:
    """How long a client's machines take together, so many at once, longest first."""
    if not takes:
        return timedelta(0)
    if at_once is None or at_once >= len(takes):
        return max(takes)
    ends = [timedelta(0)] * at_once
    for takes_here in sorted(takes, reverse=True):
        soonest = ends.index(min(ends))
        ends[soonest] += takes_here
    return max(ends)


def with_clashes(
    lines: Iterable[AgendaLine], shared: Mapping[tuple[int, int], int]
) -> list[AgendaLine]:
    """The lines in order of time, each with what gets in its way.

    `shared` says how many machines two rounds (lower number first) have in common.
    """
    ordered = sorted(lines, key=lambda line: (line.opens_at, line.round_id))
    clashes: list[list[str]] = [[] for _ in ordered]
    under_way: list[int] = []
    for number, line in enumerate(ordered):
        if line.closes_at is not None and line.ends_at > line.closes_at:
            late = line.ends_at - line.closes_at
            clashes[number].append(f"not through before it closes: {show_span(late)} too long")
        under_way = [n for n in under_way if ordered[n].ends_at > line.opens_at]
        for other in under_way:
            a, b = ordered[other].round_id, line.round_id
            both = shared.get((min(a, b), max(a, b)), 0)
            if both and a != b:
                clashes[number].append(_with(ordered[other], both))
                clashes[other].append(_with(line, both))
        under_way.append(number)
    return [
        line.model_copy(update={"clashes": tuple(words)}) if words else line
        for line, words in zip(ordered, clashes, strict=True)
    ]


def _with(other: AgendaLine, machines: int) -> str:
    return f"{count(machines, 'machine')} also in {other.round_name} at that time"
