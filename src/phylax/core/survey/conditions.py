"""Under what a machine was looked at that its agent alone decides: its own rules, its volumes.

Whoever agrees to a cleaning agrees to what a survey showed. Where a volume has come since, or the
machine's own rules are others, something else would be removed.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.ground.values import Value
from phylax.core.ground.volumes import VolumeChoice

_MOST_VOLUMES = 500


class Conditions(Value):
    """How a machine stood for a survey."""

    guard: Annotated[str, Field(max_length=64)] = Field(
        description="The same for the same rules in the machine's guard.toml"
    )
    guard_words: Annotated[str, Field(max_length=500)] = Field(description="The same in words")
    volumes: Annotated[
        tuple[Annotated[str, Field(max_length=4096)], ...], Field(max_length=_MOST_VOLUMES)
    ] = ()


def why_otherwise(then: Conditions, now: Conditions, choice: VolumeChoice) -> str:
    """What is otherwise for work on some volumes, with both versions; empty: nothing is."""
    changes = []
    if then.guard != now.guard:
        changes.append(
            f"this machine's guard.toml: shown with “{then.guard_words}”, now “{now.guard_words}”"
        )
    before, after = choice.of(then.volumes), choice.of(now.volumes)
    if set(before) != set(after):
        changes.append(f"its volumes: shown with {_listed(before)}, now {_listed(after)}")
    return "; ".join(changes)


def _listed(volumes: list[str]) -> str:
    return ", ".join(volumes[:12]) + (" and more" if len(volumes) > 12 else "") or "none"
