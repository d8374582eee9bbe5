"""A machine's clock that is wrong: noticed by what its messages say, and corrected for.

A message says when it was written by the machine's clock, and how old it is by the machine's
running time, which no setting of the clock changes. Together with when it arrived, that gives by
how much the clock was off when it was written.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from phylax.core.ground.readings import ReadingIn, VolumeReadings
from phylax.core.ground.values import to_seconds
from phylax.core.protocol import (
    ActionMessage,
    Awake,
    ChangesMessage,
    CheckedMessage,
    HeldMessage,
    InventoryMessage,
    Message,
    ReadingsMessage,
    ResultMessage,
    SettingsMessage,
    SnapshotMessage,
    StartsMessage,
    SurveyMessage,
    SurveyPartMessage,
    UnheldMessage,
)

TOLERATED = 120
"""Seconds that sending may take, and that clocks may be apart, without anybody minding."""
NOT_BELIEVED_AHEAD = 600
NOT_BELIEVED_OLD = 400 * 86400


def offset(written: datetime, age: float, now: int) -> int:
    """Seconds by which the machine's clock was ahead when it wrote a message; 0 if tolerable."""
    off = to_seconds(written) + round(age) - now
    return 0 if abs(off) <= TOLERATED else off


def set_right(message: Message, off: int) -> Message:
    """A message with its times as the service's clock would have had them."""
    if not off:
        return message
    by = timedelta(seconds=-off)
    match message:
        case ReadingsMessage():
            return message.model_copy(
                update={
                    "readings": _moved(message.readings, by),
                    "volumes": tuple(_series(series, -off) for series in message.volumes),
                    "awake": message.awake and _awake(message.awake, by),
                }
            )
        case ResultMessage():
            return message.model_copy(
                update={
                    "started_at": message.started_at + by,
                    "ended_at": message.ended_at + by,
                    "before": _moved(message.before, by),
                    "after": _moved(message.after, by),
                }
            )
        case SurveyMessage():
            times = {"started_at": message.started_at + by, "ended_at": message.ended_at + by}
            return message.model_copy(update=times)
        case SurveyPartMessage():
            return message.model_copy(update={"started_at": message.started_at + by})
        case HeldMessage():
            times = {"held_at": message.held_at + by, "expires_at": message.expires_at + by}
            return message.model_copy(update=times)
        case UnheldMessage():
            return message.model_copy(update={"at": message.at + by})
        case SettingsMessage():
            look = message.look.model_copy(update={"taken_at": message.look.taken_at + by})
            return message.model_copy(update={"look": look})
        case ChangesMessage():
            changes = [made.model_copy(update={"at": made.at + by}) for made in message.changes]
            return message.model_copy(update={"changes": tuple(changes)})
        case CheckedMessage():
            checked = [
                check.model_copy(
                    update={"started_at": check.started_at + by, "ended_at": check.ended_at + by}
                )
                for check in message.checked
            ]
            return message.model_copy(update={"checked": tuple(checked)})
        case InventoryMessage():
            taken_at = message.inventory.taken_at + by
            inventory = message.inventory.model_copy(update={"taken_at": taken_at})
            return message.model_copy(update={"inventory": inventory})
        case ActionMessage():
            times = {"started_at": message.started_at + by, "ended_at": message.ended_at + by}
            return message.model_copy(update=times)
        case SnapshotMessage():
            then = message.snapshot
            moved = {"taken_at": then.taken_at + by, "volumes": _moved(then.volumes, by)}
            return message.model_copy(update={"snapshot": then.model_copy(update=moved)})
        case StartsMessage():
            starts = [start.model_copy(update={"at": start.at + by}) for start in message.starts]
            return message.model_copy(update={"starts": tuple(starts)})
    return message


def _moved(readings: Sequence[ReadingIn], by: timedelta) -> tuple[ReadingIn, ...]:
    return tuple(reading.model_copy(update={"at": reading.at + by}) for reading in readings)


def _series(readings: VolumeReadings, by: int) -> VolumeReadings:
    return readings.model_copy(update={"at": tuple(max(0, at + by) for at in readings.at)})


def _awake(awake: Awake, by: timedelta) -> Awake:
    return awake.model_copy(
        update={
            "at": awake.at + by,
            "since": awake.since + by,
            "booted_at": awake.booted_at and awake.booted_at + by,
            "slept": tuple(
                sleep.model_copy(update={"begin": sleep.begin + by, "end": sleep.end + by})
                for sleep in awake.slept
            ),
        }
    )


def believable(readings: VolumeReadings, now: int) -> VolumeReadings | None:
    """Of a volume's readings those that can have been made by now; None where there is none."""
    first, last = now - NOT_BELIEVED_OLD, now + NOT_BELIEVED_AHEAD
    if first <= min(readings.at) and max(readings.at) <= last:
        return readings
    kept = [
        (at, free)
        for at, free in zip(readings.at, readings.free, strict=True)
        if first <= at <= last
    ]
    if not kept:
        return None
    times, free = zip(*kept, strict=True)
    return readings.model_copy(update={"at": times, "free": free})
