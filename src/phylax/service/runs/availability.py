"""What machines tell of themselves: that they are on, since when, and when they slept."""

from __future__ import annotations

import logging
from collections.abc import Iterable
from sqlite3 import Connection

from phylax.core.ground.readings import VolumeReadings
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.protocol import Awake, Message, ReadingsMessage, clocks
from phylax.core.record.records import Entry, RecordKind
from phylax.core.scheduling.missed import Between, open_times, why_after_all
from phylax.service.runs import checklist
from phylax.store.clients import agents
from phylax.store.record import records
from phylax.store.runs import occurrences
from phylax.store.scheduling import presence

_HOUR = 3600
_log = logging.getLogger("phylax.hearing")
_FARTHEST_BACK = 15 * 86400


def by_our_clock(
    conn: Connection, machine_id: int, message: Message, *, at: int, age: float | None
) -> Message:
    """A message with its times set right where the machine's clock is wrong, which is noted.

    Its readings are all series then.
    """
    if isinstance(message, ReadingsMessage):
        message = message.gathered()
    if isinstance(message, ReadingsMessage) and message.awake and age is not None:
        off = clocks.offset(message.awake.at, age, at)
        agents.note_clock(conn, machine_id, off, at=at)
    else:
        off = agents.clock_off(conn, machine_id)
    message = clocks.set_right(message, off)
    if isinstance(message, ReadingsMessage):
        kept = [
            believed
            for series in message.volumes
            if (believed := clocks.believable(series, at)) is not None
        ]
        if left_out := _number(message.volumes) - _number(kept):
            _log.warning(
                "machine %s: %s readings of a time that cannot be were left out",
                machine_id, left_out,
            )  # fmt: skip
            message = message.model_copy(update={"volumes": tuple(kept)})
    return message


def _number(volumes: Iterable[VolumeReadings]) -> int:
    return sum(len(series.at) for series in volumes)


def heard_of(conn: Connection, machine_id: int, *, at: int, moments: Iterable[int] = ()) -> None:
    """A machine has called; it was on at these moments as well, by its own word."""
    before = agents.seen_at(conn, machine_id)
    moments_told = [moment for moment in moments if at - _FARTHEST_BACK < moment <= at]
    if moments_told or before // _HOUR != at // _HOUR:
        presence.note(conn, machine_id, [*moments_told, at])
    agents.seen(conn, machine_id, at=at)


def told_awake(conn: Connection, machine_id: int, awake: Awake, *, at: int) -> None:
    """Since when an agent is at work: runs it missed may have had another reason than was
    presumed, and a restart that somebody waits for may have happened."""
    agents.note_clock_doubt(conn, machine_id, awake.clock_doubt, at=at)
    since, until = to_seconds(awake.since), min(to_seconds(awake.at), at)
    if awake.booted_at is not None:
        checklist.note_restart(conn, machine_id, to_seconds(awake.booted_at), at=at)
    on = [Between(since, until)]
    stretches = [Between(to_seconds(sleep.begin), to_seconds(sleep.end)) for sleep in awake.slept]
    presence.note_sleeps(conn, machine_id, stretches, at=at)
    for run_id, facts in occurrences.presumed_off(
        conn, machine_id, max(since, at - _FARTHEST_BACK)
    ):
        open_ = open_times(facts.stretches, at)
        begin = open_[0].begin if open_ else at
        # it may have told of a sleep before the run was missed
        slept = presence.sleeps(conn, machine_id, begin, at)
        missed = why_after_all(open_, on, slept, presence.outages(conn, begin, at))
        if missed is None:
            continue
        occurrences.correct_cause(conn, run_id, missed.cause, missed.words)
        known = records.of_run(conn, run_id)
        records.append(
            conn,
            Entry(
                machine_id=machine_id,
                at=from_seconds(at),
                who="the machine",
                kind=RecordKind.NOTE,
                corrects=known,
                text=f"Missed for another reason than was presumed: {missed.words}.",
            ),
        )
