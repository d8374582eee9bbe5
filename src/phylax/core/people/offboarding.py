"""Somebody leaves the shop, or returns, and what that means."""

from __future__ import annotations

from collections.abc import Iterator

from pydantic import Field

from phylax.core.ground.quantities import count
from phylax.core.ground.values import Moment, Value


class Leaving(Value):
    """What leaving means as things stand; for who left, what returning means."""

    left_at: Moment | None = None
    visits: tuple[int, ...] = Field((), description="Numbers of open visits assigned to them")
    rounds: tuple[str, ...] = Field((), description="Rounds that they care for")
    taken: int = Field(0, description="What needs somebody, and they took on")
    tokens: int = Field(0, description="Programs' tokens that end")
    calendars: int = Field(0, description="Calendars of theirs that others read")
    forgotten_after_months: int | None = Field(None, description="When their name goes")
    in_words: tuple[str, ...] = ()


def leaving_means(facts: Leaving) -> tuple[str, ...]:
    return tuple(_returning(facts) if facts.left_at else _leaving(facts))


def _leaving(facts: Leaving) -> Iterator[str]:
    if facts.visits:
        numbers = ", ".join(map(str, facts.visits))
        yield f"Open visits assigned to them: {numbers}. Assign each to somebody else first."
    if facts.rounds:
        names = ", ".join(f"“{name}”" for name in facts.rounds)
        yield f"They are responsible for {names}, which goes on: name somebody else for it."
    if facts.taken:
        items = count(facts.taken, "item")
        yield f"They took on {items} that needs attention: assign it to somebody else."
    ended = ["all their sign-ins"]
    if facts.tokens:
        ended.append(count(facts.tokens, "token"))
    if facts.calendars:
        ended.append(count(facts.calendars, "calendar"))
    yield f"At once end {', '.join(ended)}, passkeys and codes."
    if facts.forgotten_after_months is None:
        yield "What they did stays in the records under their name."
    else:
        yield (
            "What they did stays in the records; their name goes after "
            f"{count(facts.forgotten_after_months, 'month')}."
        )


def _returning(facts: Leaving) -> Iterator[str]:
    yield "They may sign in again, in their role, once they chose a password by a link."
    if facts.rounds:
        names = ", ".join(f"“{name}”" for name in facts.rounds)
        yield f"They care for {names} again."
