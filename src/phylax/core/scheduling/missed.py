"""Why an occurrence was missed: what stood in the way whenever it might have started."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from enum import StrEnum
from typing import NamedTuple

from phylax.core.scheduling.timing import Stretch

_A_MOMENT = 120
"""Seconds: who was on for less may not have asked yet."""


class Between(NamedTuple):
    """From a moment until another, in epoch seconds; the end does not belong to it."""

    begin: int
    end: int


class MissedCause(StrEnum):
    NO_AGENT = "no agent"
    TOO_LONG = "too long"
    TOO_LATE = "too late"
    NOBODY = "nobody"
    SITE = "site"
    BUSY = "busy"
    SERVICE_DOWN = "service down"
    OUT_OF_REACH = "out of reach"
    ASLEEP = "asleep"
    OFF = "off"


_WORDS = {
    MissedCause.NO_AGENT: "no agent is enrolled on the machine",
    MissedCause.TOO_LONG: "it takes longer than its window is open",
    MissedCause.TOO_LATE: "the machine came on too late to be through before it closes",
    MissedCause.NOBODY: "nobody began: its first step is done by hand",
    MissedCause.SITE: "as many machines as may work at once were at work at the client's",
    MissedCause.BUSY: "the machine was busy with other work until its time had passed",
    MissedCause.SERVICE_DOWN: "the service was down until its time had passed",
    MissedCause.OUT_OF_REACH: "the machine was on and could not reach the service",
    MissedCause.ASLEEP: "the machine was asleep",
    MissedCause.OFF: "the machine was off, or could not reach the service",
}


class Missed(NamedTuple):
    cause: MissedCause
    words: str


def overlap(some: Iterable[Between], others: Iterable[Between]) -> int:
    """Seconds that belong to both; neither side may overlap itself."""
    others = list(others)
    return sum(max(0, min(a.end, b.end) - max(a.begin, b.begin)) for a in some for b in others)


def open_times(stretches: Sequence[Stretch], until: int) -> list[Between]:
    """When a run might have started, up to a moment."""
    return [
        Between(stretch.opens_at, min(stretch.closes_at, until))
        for stretch in stretches
        if stretch.opens_at < until
    ]


class Known(NamedTuple):
    """What the service knows when an occurrence's time has passed."""

    enrolled: bool
    outages: Sequence[Between]
    busy: Sequence[Between]
    """When the machine did other work."""
    held_up: MissedCause | None
    """Why the machine's question for work was answered with nothing, though this waited."""


def why(open_: Sequence[Between], known: Known) -> Missed:
    """The reason nearest to running: who asked and was refused was on; who was busy was on too."""
    whole = sum(stretch.end - stretch.begin for stretch in open_)
    if whole and overlap(open_, known.outages) >= whole:
        return because(MissedCause.SERVICE_DOWN)
    if not known.enrolled:
        return because(MissedCause.NO_AGENT)
    if known.held_up is not None and known.held_up is not MissedCause.TOO_LATE:
        return because(known.held_up)
    if overlap(open_, known.busy):
        return because(MissedCause.BUSY)
    if known.held_up is not None:
        return because(known.held_up)
    return because(MissedCause.OFF)


def why_after_all(
    open_: Sequence[Between],
    on: Sequence[Between],
    slept: Sequence[Between],
    outages: Sequence[Between],
) -> Missed | None:
    """What a machine that was presumed off has told since; None where it changes nothing."""
    awake_and_open = [
        Between(max(a.begin, b.begin), min(a.end, b.end))
        for a in open_
        for b in on
        if max(a.begin, b.begin) < min(a.end, b.end)
    ]
    # asleep for a moment of its time only is not awake for the rest of it
    awake = overlap(awake_and_open, [Between(0, 2**62)]) - overlap(awake_and_open, slept)
    if awake > _A_MOMENT:
        reachable = awake - overlap(awake_and_open, outages)
        return because(MissedCause.SERVICE_DOWN if reachable <= 0 else MissedCause.OUT_OF_REACH)
    return because(MissedCause.ASLEEP) if overlap(open_, slept) else None


def because(cause: MissedCause) -> Missed:
    """A cause with its sentence."""
    return Missed(cause, _WORDS[cause])
