"""How far an agent is with a run."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from phylax.core.ground.values import Demand, Value

Step = Literal[
    "look", "clean", "second look", "further pass", "put back", "let go", "check", "act",
    "wait",
]  # fmt: skip


class Progress(Demand):
    """How far a run is; only the newest counts."""

    step: Step
    category: str = ""
    items: int = Field(0, ge=0)
    size: int = Field(0, ge=0, description="Bytes looked at or removed so far in this step")
    total_items: int | None = Field(None, ge=0, description="Items expected in this step, if known")
    total_size: int | None = Field(None, ge=0)
    items_per_second: float | None = Field(None, ge=0, description="Over the last seconds")
    seconds_left: int | None = Field(None, ge=0, description="Of this step, if it can be said")


class LeasedProgress(Demand):
    lease: str
    progress: Progress


class GoOn(Value):
    """The service's answer to progress."""

    go_on: bool = Field(description="False: the run was called off or is no longer this agent's")
