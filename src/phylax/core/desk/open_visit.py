"""How a machine's open visit stands: what is late, and since when it can be fetched."""

from __future__ import annotations

from datetime import date, timedelta

from pydantic import Field

from phylax.core.ground.quantities import count, show_day
from phylax.core.ground.values import Moment, Value

REMIND_AFTER = (timedelta(days=7), timedelta(days=14), timedelta(days=30))
"""When a client who was told by mail that a machine is ready is reminded of it."""


class OpenVisit(Value):
    """What attention looks at of a machine's open visit."""

    visit: int
    overdue_since: date | None = None
    todo: str = ""
    waiting_for: str = Field("", description='In words, as in "waiting for the client"')
    ready_at: Moment | None = None
    was_mailed: bool = False
    reminded: int = 0
    late_parts: tuple[str, ...] = Field((), description="What each is, and when it was expected")
    late_since: date | None = None


def reminders_due(ready_for: timedelta) -> int:
    """How many times a client should have been reminded by now."""
    return sum(ready_for >= span for span in REMIND_AFTER)


def late_in_words(parts: tuple[str, ...]) -> str:
    return f"{count(len(parts), 'part')} late: {'; '.join(parts)}"


def late_part(what: str, from_whom: str, expected: date) -> str:
    source = f" from {from_whom}" if from_whom else ""
    return f"{what}{source}, expected {show_day(expected)}"
