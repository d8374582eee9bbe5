"""What was read while the service was out of reach goes in one message, not in hundreds."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from phylax.core.protocol import Message, ReadingsMessage
from phylax.core.shop import by_volume

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
    found: list[Single] = []
    number = 0
    for one in waiting:
        more = len(one.message.readings) if isinstance(one.message, ReadingsMessage) else 0
        if found and not (number + more <= _AT_ONCE and _goes_with(one, found[-1])):
            yield _as_one(found)
            found, number = [], 0
        found.append(one)
        number += more
    if found:
        yield _as_one(found)


def _goes_with(later: Single, earlier: Single) -> bool:
    message, before = later.message, earlier.message
    if not (isinstance(message, ReadingsMessage) and isinstance(before, ReadingsMessage)):
        return False
    one, other = message.awake, before.awake
    if one is None or other is None:
        return one is other
    if (one.since, one.booted_at) != (other.since, other.booted_at):
        return False
    if later.age is None or earlier.age is None:
        return later.age is earlier.age
    apart = (one.at - other.at).total_seconds() + later.age - earlier.age
    return abs(apart) < _CLOCK_STOOD


def _as_one(found: Sequence[Single]) -> Waiting:
    _, last, age = found[-1]
    messages = [one.message for one in found if isinstance(one.message, ReadingsMessage)]
    if len(found) == 1 or not isinstance(last, ReadingsMessage):
        return Waiting(last, age, found)
    slept = tuple(one for message in messages if message.awake for one in message.awake.slept)
    together = ReadingsMessage(
        # what was taken under this name was taken with all before it
        id=last.id,
        volumes=by_volume(one for message in messages for one in message.readings),
        awake=last.awake and last.awake.model_copy(update={"slept": slept[-1000:]}),
    )
    return Waiting(together, age, found)
