"""Visits: a machine comes to the bench, a technician goes to it, or it is worked on from afar. A
visit says where the machine is, whose move it is, for what and until when."""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.values import Demand, Moment, Value

VisitKind = Literal["at the bench", "at the client's", "from afar"]
Place = Literal["client", "shelf", "bench"]
"""Where a machine is."""
Outcome = Literal["mended", "not mended"]
_Said = Annotated[str, Field(max_length=4000, examples=["It stops in the middle of the mail."])]
_Words = Annotated[str, Field(max_length=1000)]


class Whose(StrEnum):
    """Whose move it is."""

    OURS = "ours"
    CLIENT = "the client's"
    SUPPLIER = "a supplier's"


class VisitEdit(Demand):
    """What the desk writes down of a visit."""

    kind: VisitKind = "at the bench"
    said: _Said = Field("", description="What the client says is wrong, in their words")
    condition: _Words = Field("", description="Scratches, dents, what does not work")
    came_along: Annotated[_Words, Field(examples=["charger, bag, two sticks"])] = ""
    wanted_by: date | None = None
    ask_above: Annotated[int, Field(ge=0, le=10_000_000)] | None = Field(
        None, description="An amount: ask before anything above"
    )
    loan: Annotated[str, Field(max_length=200)] = Field("", description="What was lent meanwhile")
    guaranteed_until: date | None = Field(None, description="Until when the work is guaranteed")
    back_from: int | None = Field(None, description="The earlier visit that it comes back from")


class NewVisit(VisitEdit):
    """A machine is taken in for a visit."""

    machine_id: int
    place: Place = "shelf"
    shelf: Annotated[str, Field(max_length=60, examples=["B3"])] = ""
    whom: int | None = Field(None, description="Number of the person whose move it is first")


class Move(Demand):
    """Whose move it is from now on, for what, until when, and where the machine is meanwhile."""

    whose: Whose
    whom: int | None = Field(None, description="Where it is ours: by number of the person")
    todo: Annotated[str, Field(max_length=400, examples=["say yes to the new disk"])] = ""
    until: date | None = None
    place: Place | None = Field(None, description="Left out: where it was")
    shelf: Annotated[str, Field(max_length=60)] | None = None


class HandOver(Demand):
    """The visit ends."""

    outcome: Outcome
    word: Annotated[str, Field(max_length=2000)] = ""
    guaranteed_until: date | None = None


class Visit(Value):
    id: int = Field(description="The number that is spoken, and stands on the claim slip")
    machine_id: int
    machine_tag: str
    client_id: int
    client_name: str
    kind: VisitKind
    said: str
    condition: str
    came_along: str
    wanted_by: date | None
    ask_above: int | None
    loan: str
    guaranteed_until: date | None
    back_from: int | None
    place: Place
    shelf: str
    whose: Whose
    whom: int | None
    whom_name: str = ""
    todo: str
    until: date | None
    moved_at: Moment
    ready_at: Moment | None = Field(None, description="Since when it can be fetched")
    ready_mail: str = Field("", description="Who was told so by mail, and is reminded")
    reminded: int = 0
    opened_by: str
    opened_at: Moment
    closed_by: str = ""
    closed_at: Moment | None
    outcome: Outcome | None
    overdue: bool = Field(False, description="The move, or the whole of it, was due before today")
    version: int


class Slip(Value):
    """What is printed when a machine is taken in: a part for the client, a part for the machine."""

    visit: Visit
    shop: str
    head: str = Field("", description="What stands on top of the shop's papers")
    terms: str = Field("", description="The shop's terms")
    contact: str
    phone: str
    make_and_model: str
    serial: str
    address: str = Field(description="Of the visit's page")
    picture: str = Field(description="The address as a QR code: an SVG")


def is_overdue(visit: Visit, today: date) -> bool:
    if visit.closed_at is not None or visit.ready_at is not None:
        return False
    return any(day is not None and day < today for day in (visit.until, visit.wanted_by))


def opened_in_words(visit: Visit) -> str:
    """For the machine's record."""
    parts = [f"Visit {visit.id} opened, {visit.kind}"]
    if visit.said:
        parts.append(f"The client says: “{visit.said.rstrip('. ')}”")
    if visit.condition:
        parts.append(f"Condition: {visit.condition}")
    if visit.came_along:
        parts.append(f"Came along: {visit.came_along}")
    if visit.wanted_by:
        parts.append(f"Wanted by {visit.wanted_by}")
    if visit.ask_above is not None:
        parts.append(f"Ask before anything above {visit.ask_above}")
    if visit.back_from is not None:
        parts.append(f"Comes back from visit {visit.back_from}")
    return _sentences(parts)


def moved_in_words(visit: Visit) -> str:
    whose = f"{visit.whom_name}'s" if visit.whom_name else str(visit.whose)
    todo = f": {visit.todo}" if visit.todo else ""
    until = f", until {visit.until}" if visit.until else ""
    where = {"client": "at the client's", "bench": "on the bench"}.get(visit.place, "on the shelf")
    shelf = f" {visit.shelf}" if visit.place == "shelf" and visit.shelf else ""
    parts = [
        f"Visit {visit.id}: the move is {whose}{todo}{until}",
        f"The machine is {where}{shelf}",
    ]
    return _sentences(parts)


def closed_in_words(visit: Visit, word: str) -> str:
    parts = [f"Visit {visit.id} ended: handed over {visit.outcome}"]
    if word:
        parts.append(word)
    if visit.guaranteed_until:
        parts.append(f"Guaranteed until {visit.guaranteed_until}")
    return _sentences(parts)


def _sentences(parts: list[str]) -> str:
    return " ".join(part if part[-1] in ".!?" else f"{part}." for part in parts)
