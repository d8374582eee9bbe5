"""A survey of chosen volumes says of the others what the machine's newest survey knew of them: so
one survey is always how the whole machine stands, and what needs approval goes on waiting."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.catalogue import category
from phylax.core.ground.tally import Tally
from phylax.core.protocol import SurveyMessage
from phylax.core.retention import Caution
from phylax.core.survey import SurveyLine
from phylax.store.clients import shop
from phylax.store.runs import runs
from phylax.store.survey import surveys

MOST_LISTED = 20_000
"""Items of listings that are carried over: they are written while nobody else writes."""


class Carried(NamedTuple):
    """What comes over from the survey before."""

    before_id: int
    mounts: frozenset[str] = frozenset()
    lines: tuple[SurveyLine, ...] = ()
    listed: bool = False
    """Its listings come over too."""


def carried(conn: Connection, machine_id: int, message: SurveyMessage) -> Carried | None:
    """Lines for the volumes that a survey left out and that the machine still has; None where it
    left none out."""
    run = runs.run(conn, message.run_id)
    if run is None or run.machine_id != machine_id or run.volumes.is_all:
        return None
    before = surveys.newest(conn, machine_id)
    machine = shop.machine(conn, machine_id)
    if before is None or machine is None:
        return None
    if (before.run_id, before.kind) == (run.id, message.survey_kind):
        # the same survey once more, by an agent that was cut off: it has its listings already
        lines = tuple(line for line in before.lines if line.surveyed_at is not None)
        return Carried(before.id, frozenset(line.mount for line in lines), lines)
    looked_at = {line.mount for line in message.lines}
    mounts = frozenset(
        volume.mount
        for volume in machine.volumes
        if not run.volumes.covers(volume.mount) and volume.mount not in looked_at
    )
    lines = tuple(
        line.model_copy(update={"surveyed_at": line.surveyed_at or before.ended_at})
        for line in before.lines
        if line.mount in mounts
    )
    listed = surveys.may_carry(conn, before.id, mounts, at_most=MOST_LISTED)
    if not listed:
        lines = tuple(_unlisted(line) if _asks(line) else line for line in lines)
    return Carried(before.id, mounts, lines, listed)


def completed(message: SurveyMessage, carried_over: Carried | None) -> SurveyMessage:
    """The survey with what comes over; what its agent itself says of other times does not count."""
    own = tuple(
        line if line.surveyed_at is None else line.model_copy(update={"surveyed_at": None})
        for line in message.lines
    )
    return message.model_copy(
        update={"lines": (*own, *(carried_over.lines if carried_over else ()))}
    )


def write(conn: Connection, survey_id: int, carried_over: Carried | None) -> None:
    """The listings that come over."""
    if carried_over is not None and carried_over.listed:
        surveys.carry_items(conn, carried_over.before_id, survey_id, carried_over.mounts)


def _asks(line: SurveyLine) -> bool:
    return category(line.category).caution is Caution.ASK


def _unlisted(line: SurveyLine) -> SurveyLine:
    """Without its listing nobody can say yes to it; the volume is to be looked at anew."""
    return line.model_copy(update={"removable": Tally()})
