"""Consent: a person's approval to one survey's listing of one `ask` category, or a standing one."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Literal

from pydantic import Field, model_validator

from phylax.core.ground.values import Demand, Moment, Value

LASTS = timedelta(days=7)
"""A yes that was not acted on by then no longer counts."""

Via = Literal["console", "command line", "api"]


class NewConsent(Demand):
    """A yes to a whole proposal, or to chosen items of the listing."""

    survey_id: int
    category: str
    whole: bool = Field(False, description="Everything the rule proposed in this listing")
    numbers: Annotated[
        tuple[int, ...], Field(max_length=100_000, description="Chosen items by their number")
    ] = ()
    via: Via = "api"
    comment: Annotated[str, Field(max_length=400, examples=["asked by phone"])] = ""

    @model_validator(mode="after")
    def _whole_or_chosen(self) -> NewConsent:
        if self.whole == bool(self.numbers):
            raise ValueError("agree to the whole proposal, or to items by number, not both")
        return self


class NewStandingConsent(Demand):
    """A yes for as long as it is not taken back: what the rule proposes may go each time."""

    category: str
    via: Via = "api"
    comment: Annotated[str, Field(max_length=400, examples=["agreed in the contract"])] = ""


class StandingConsent(Value):
    id: int
    machine_id: int
    category: str
    given_by: str
    via: Via
    comment: str
    given_at: Moment
    taken_back_by: str = ""
    taken_back_at: Moment | None = None


class WaitingListing(Value):
    """A listing that needs approval: somebody's rule proposes it, and nobody has agreed yet."""

    survey_id: int
    machine_id: int
    machine_tag: str
    client_name: str
    category: str
    name: str
    items: int
    size: int
    surveyed_at: Moment | None


class PickedListing(Demand):
    survey_id: int
    category: str


class NewApproval(Demand):
    """A yes to all that these listings propose, and a cleaning of just that on each machine."""

    listings: Annotated[tuple[PickedListing, ...], Field(min_length=1, max_length=1000)]
    via: Via = "api"
    comment: Annotated[str, Field(max_length=400, description="The client's word")] = ""


class Consent(Value):
    id: int
    survey_id: int
    machine_id: int
    category: str
    whole: bool
    items: int
    size: int
    given_by: str
    via: Via
    comment: str
    given_at: Moment
    expires_at: Moment
    used_by_run: int | None = None
