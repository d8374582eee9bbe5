"""An agent's first call, and what it gets."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from phylax.core.ground.machines import MachineFacts
from phylax.core.ground.values import Demand, Value


class Enrolment(Demand):
    """An agent's first call."""

    code: Annotated[str, Field(max_length=40, examples=["k7wq-m2xd-9hfe-tz4b"])]
    facts: MachineFacts


class Enrolled(Value):
    """The agent's own key; shown this once."""

    machine_id: int
    tag: str
    key: str
