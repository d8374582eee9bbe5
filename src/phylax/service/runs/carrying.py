"""A survey of chosen volumes says of the others what the machine's newest survey knew of them: so
one survey is always how the whole machine stands, and what waits for a yes goes on waiting."""

from __future__ import annotations

from phylax.core.catalogue import category
from phylax.core.protocol import SurveyMessage
from phylax.core.retention import Caution
from phylax.core.runs import Run
from phylax.core.survey import SurveyLine, Tally
from phylax.store import shop, surveys
from phylax.store.database import Connection

MOST_LISTED = 20_000
"""Items of listings that are carried over: they are written while nobody else writes."""


def with_carried(
    conn: Connection, run: Run, message: SurveyMessage, survey_id: int
) -> SurveyMessage:
    """The survey, with lines for the volumes that were not chosen and that the machine still has;
    their listings are carried over too, or nothing of them is proposed."""
    if run.volumes.is_all:
        return message
    before = surveys.newest(conn, run.machine_id)
    machine = shop.machine(conn, run.machine_id)
    if before is None or machine is None or before.id >= survey_id:
        return message
    looked_at = {line.mount for line in message.lines}
    carried = {
        volume.mount
        for volume in machine.volumes
        if not run.volumes.covers(volume.mount) and volume.mount not in looked_at
    }
    lines = tuple(
        line.model_copy(update={"looked_at": line.looked_at or before.ended_at})
        for line in before.lines
        if line.mount in carried
    )
    kept = surveys.carry_items(conn, before.id, survey_id, carried, at_most=MOST_LISTED)
    lines = tuple(line if kept or not _asks(line) else _unlisted(line) for line in lines)
    return message.model_copy(update={"lines": (*message.lines, *lines)})


def _asks(line: SurveyLine) -> bool:
    return category(line.category).caution is Caution.ASK


def _unlisted(line: SurveyLine) -> SurveyLine:
    """Without its listing nobody can say yes to it; the volume is to be looked at anew."""
    return line.model_copy(update={"goes": Tally()})
