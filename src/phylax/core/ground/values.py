"""The ground the wire types stand on: frozen models, aware UTC times, plain spans."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated, TypeVar

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    ConfigDict,
    Field,
    PlainSerializer,
    StrictBool,
    StrictInt,
    StrictStr,
)

LONGEST_TEXT = 524_288
"""Characters of any text that has no bound of its own. The deepest path that is walked, however it
is written, is less."""


class Value(BaseModel):
    """A frozen value that crosses a boundary. Readers ignore fields newer than they are.

    How it is checked is worked out when it is first used: most programs use few of them.
    """

    model_config = ConfigDict(
        frozen=True, extra="ignore", str_max_length=LONGEST_TEXT, defer_build=True
    )


class Demand(BaseModel):
    """A frozen value that somebody sends to be acted on. Unknown fields are refused."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", str_max_length=LONGEST_TEXT, defer_build=True
    )


def build_all() -> None:
    """Work out now how every model that is loaded is checked: for a service, whose first visitors
    are not to wait, and for who is forked into many processes. So is what is made of them later."""
    models: list[type[BaseModel]] = [Value, Demand]
    while models:
        model = models.pop()
        model.model_config["defer_build"] = False
        model.model_rebuild()
        models += model.__subclasses__()


E = TypeVar("E", bound=Demand)


def edit_of(kind: type[E], value: Value, **changes: object) -> E:
    """What leaves a value as it is but for these changes; ValidationError where they are wrong."""
    kept = {name: getattr(value, name) for name in kind.model_fields}
    return kind.model_validate(kept | changes)


def _to_utc(at: datetime) -> datetime:
    return at.astimezone(UTC)


def _show_utc(at: datetime) -> str:
    return at.astimezone(UTC).isoformat().replace("+00:00", "Z")


Moment = Annotated[
    AwareDatetime,
    AfterValidator(_to_utc),
    PlainSerializer(_show_utc, return_type=str, when_used="json"),
    Field(examples=["2026-03-02T18:30:00Z"]),
]
"""An aware point in time; stored and sent in UTC (RFC 3339)."""

NumericDate = Annotated[
    int, Field(ge=0, le=253_402_300_799, examples=[1_772_476_200], description="Epoch seconds")
]
"""A point in time as seconds since 1970-01-01T00:00:00Z (NumericDate of RFC 7519): for series."""

Span = Annotated[timedelta, Field(examples=["P30D"])]
"""A span of time; ISO 8601 duration on the wire."""

MOST = 2**53 - 1
"""What a number of JSON holds exactly in every language (RFC 8259, 6): 8 PiB, or more things than a
machine has. What a machine says beyond it counts as this, so that no sum of the shop overflows."""


def within(number: int) -> int:
    """The number, or the nearest that can be."""
    return max(-MOST, min(MOST, number))


Amount = Annotated[int, AfterValidator(within)]
BytesTold = Annotated[int, Field(ge=0, examples=[1_610_612_736]), AfterValidator(within)]
"""Of a file system: some say that they have more than there is."""
Whole = Annotated[int, Field(ge=-MOST, le=MOST)]
"""The same where there are thousands: it is refused instead."""
Bytes = Annotated[int, Field(ge=0, le=MOST, examples=[1_610_612_736])]


def to_seconds(at: datetime) -> int:
    """Whole seconds since the Unix epoch, as the store keeps times."""
    return int(at.timestamp())


def from_seconds(seconds: int) -> datetime:
    """The aware UTC time of a stored number of seconds."""
    return datetime.fromtimestamp(seconds, UTC)


Scalar = StrictBool | StrictInt | Annotated[StrictStr, Field(max_length=200)]
"""What a setting of one value can be: a switch, a number, or one of its choices."""
