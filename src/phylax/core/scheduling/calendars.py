"""Calendar feeds: whose they are, and the private addresses from which calendars read them."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from phylax.core.ground.names import Name
from phylax.core.ground.values import Demand, Moment, Value

About = Literal["shop", "person", "client"]


class FeedEdit(Demand):
    """A feed as people ask for it."""

    name: Name
    about: About = "shop"
    subject_id: int = Field(0, description="Number of the person or the client")

    @model_validator(mode="after")
    def _names_whose_it_is(self) -> FeedEdit:
        if (self.about == "shop") != (self.subject_id == 0):
            raise ValueError("name the person or client by number; the shop has none")
        return self


class Feed(Value):
    id: int
    name: str
    about: About
    subject_id: int
    subject_name: str = ""
    made_by: str
    made_at: Moment
    read_at: Moment | None = Field(None, description="When a calendar read it last")


class FeedShown(Feed):
    """A feed with its private address, which is shown this once."""

    path: str = Field(description="Below the service's own address")
