"""Devices and what drives them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.text import Text
from phylax.core.ground.values import Moment, Value

MOST_DRIVERS = 2000


class Driver(Value):
    """A device with its driver; a driver without a name: the device has none."""

    device: Text
    driver: Text = ""
    version: Text = ""
    date: Text = Field("", description="ISO 8601 date; empty: nobody says")
    maker: Text = ""


class DriversListed(Value):
    kind: Literal["drivers"] = "drivers"
    taken_at: Moment
    unread: Text = ""
    drivers: Annotated[tuple[Driver, ...], Field(max_length=MOST_DRIVERS)] = ()
