"""What was read while the service was out of reach goes in one message, not in hundreds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from phylax.core.ground.readings import by_volume
from phylax.core.protocol import Message, ReadingsMessage

_AT_ONCE = 2000
"""Readings in one message."""
_CLOCK_STOOD = 60.0
"""Seconds by which a clock may drift between two messages without having been set."""


class Single(NamedTuple):
    """A message as it was kept; `age` in seconds by the machine's running time, where known."""

    path: Path
    message: Message
    age: float | None


class Waiting(NamedTuple):
    """One message to be sent, and those it was made of."""

    message: Message
    age: float | None
    of: Sequence[Single]


def gathered(waiting: Iterable[Single]) -> Iterator[Waiting]:
    """Messages in order, neighbouring readings put together.

    Only those that say the same of the machine: by the same start of agent and machine, and by a
    clock that was not set between them. What each says then holds for all.
    """
    singles: list[Single] = []
    number = 0
    for single in waiting:
        more = len(single.message.readings) if isinstance(single.message, ReadingsMessage) else 0
        if singles and not (number + more <= _AT_ONCE and _goes_with(single, singles[-1])):
            yield _as_one(singles)
            singles, number = [], 0
        singles.append(single)
        number += more
    if singles:
        yield _as_one(singles)


def _goes_with(later: Single, earlier: Single) -> bool:
    message, before = later.message, earlier.message
    if not (isinstance(message, ReadingsMessage) and isinstance(before, ReadingsMessage)):
        return False
    awake, other = message.awake, before.awake
    if awake is None or other is None:
        return awake is other
    if (awake.since, awake.booted_at) != (other.since, other.booted_at):
        return False
    if later.age is None or earlier.age is None:
        return later.age is earlier.age
    apart = (awake.at - other.at).total_seconds() + later.age - earlier.age
    return abs(apart) < _CLOCK_STOOD


def _as_one(singles: Sequence[Single]) -> Waiting:
    _, last, age = singles[-1]
    messages = [single.message for single in singles if isinstance(single.message, ReadingsMessage)]
    if len(singles) == 1 or not isinstance(last, ReadingsMessage):
        return Waiting(last, age, singles)
    slept = tuple(single for message in messages if message.awake for single in message.awake.slept)
    together = ReadingsMessage(
        # what was taken under this name was taken with all before it
        id=last.id,
        volumes=by_volume(single for message in messages for single in message.readings),
        awake=last.awake and last.awake.model_copy(update={"slept": slept[-1000:]}),
    )
    return Waiting(together, age, singles)
