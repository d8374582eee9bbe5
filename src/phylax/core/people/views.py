"""Views: the state of a page of the console, kept by a person under a name."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.names import Name
from phylax.core.ground.values import Demand, Value

ViewPage = Literal["machines", "records"]
MOST = 50
"""Views of one person for one page."""


class NewView(Demand):
    page: Annotated[ViewPage, Field(examples=["machines"])]
    name: Name
    query: Annotated[
        str,
        Field(max_length=4000, description="As in the page's address", examples=["system=linux"]),
    ]


class View(Value):
    id: int
    page: ViewPage
    name: str
    query: str
