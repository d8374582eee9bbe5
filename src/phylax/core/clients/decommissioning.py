"""Machines and clients that the shop looks after no more, and what that means."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from pydantic import Field

from phylax.core.ground.quantities import count
from phylax.core.ground.tally import Tally
from phylax.core.ground.values import Demand, Moment, Value


class Retire(Demand):
    """Why a machine or a client is not looked after any more."""

    why: Annotated[str, Field(max_length=400, examples=["Sold; the office has a new one."])] = ""


class RoundWithout(Value):
    """A round that runs on machines which retire, or return."""

    id: int
    name: str
    machines: int = Field(description="How many it has now")
    others: int = Field(description="How many of these are not among those that retire or return")


class Retirement(Value):
    """What retiring means as things stand; for what is retired, what returning means."""

    retired_at: Moment | None = None
    machines: tuple[str, ...] = Field(description="Tags")
    rounds: tuple[RoundWithout, ...] = ()
    waiting: int = Field(0, description="Runs that would be called off")
    under_way: tuple[str, ...] = Field((), description="Machines that work just now: they must end")
    enrolled: int = Field(0, description="Machines whose agents may not call any more")
    held: Tally = Field(default=Tally(), description="What is held on them")
    held_until: Moment | None = Field(None, description="When the last of it goes")
    changes: int = Field(0, description="Changes of settings that stay on them")
    rules: int = Field(0, description="Rules and protect entries of their own, which stay")
    consents: int = Field(0, description="Standing consents, which rest")
    open_attention: int = Field(0, description="What needs a person there, and ends")
    in_words: tuple[str, ...] = ()


def means(facts: Retirement) -> tuple[str, ...]:
    """What retiring or returning means, in sentences."""
    return tuple(_returning(facts) if facts.retired_at else _retiring(facts))


def _retiring(facts: Retirement) -> Iterator[str]:
    if facts.under_way:
        machines = ", ".join(facts.under_way)
        yield f"Work is under way on {machines}: wait for its end or stop it, then retire."
    for round_ in facts.rounds:
        others = count(round_.others, "other machine")
        stays = "stay" if round_.others > 1 else "stays"
        rest = f"{others} {stays}" if round_.others else "no machine stays"
        todo = "" if round_.others else "; end it or give it others"
        yield f"The round “{round_.name}” runs there no more: {rest} in it{todo}."
    if facts.waiting:
        yield f"{count(facts.waiting, 'run')} that waited: called off."
    if facts.held.count:
        until = f", at the latest on {facts.held_until:%Y-%m-%d}" if facts.held_until else ""
        yield (
            f"{count(facts.held.count, 'file')} held there can no longer be put back from here; "
            f"the machine's agent lets them go in time{until}. Put back first what is still wanted."
        )
    if facts.changes:
        stays = "stay as they are" if facts.changes > 1 else "stays as it is"
        yield (
            f"{count(facts.changes, 'change')} of settings {stays}. "
            "Put back first what should not stay."
        )
    if facts.enrolled:
        agents = "Its agent" if len(facts.machines) == 1 else count(facts.enrolled, "agent")
        yield f"{agents} may not call any more; a machine that returns is enrolled anew."
    kept = []
    if facts.rules:
        kept.append(count(facts.rules, "rule"))
    if facts.consents:
        kept.append(count(facts.consents, "standing consent"))
    if kept:
        yield f"{' and '.join(kept)} rest, and count again on return."
    yield "Records, runs, trends and reports stay."


def _returning(facts: Retirement) -> Iterator[str]:
    for round_ in facts.rounds:
        yield f"The round “{round_.name}” runs there again."
    if not facts.rounds:
        yield "No round takes it in; add it to one."
    if facts.rules or facts.consents:
        yield "Rules, protect entries and standing consents count as before."
    whose = "Its agent is" if len(facts.machines) == 1 else "Their agents are"
    yield f"{whose} to be enrolled anew: make a one-time code."
