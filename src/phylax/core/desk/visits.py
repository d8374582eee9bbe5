"""Visits: a machine comes to the bench, a technician goes to it, or it is worked on from afar. A
visit says where the machine is, who acts next, what is to be done and by when."""

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


class Turn(StrEnum):
    """Who acts next."""

    US = "us"
    CLIENT = "client"
    SUPPLIER = "supplier"


class VisitEdit(Demand):
    """What the desk writes down of a visit."""

    kind: VisitKind = "at the bench"
    reported_problem: _Said = Field("", description="What the client says is wrong, in their words")
    condition: _Words = Field("", description="Scratches, dents, what does not work")
    accessories: Annotated[_Words, Field(examples=["charger, bag, two sticks"])] = ""
    due_on: date | None = None
    approval_limit: Annotated[int, Field(ge=0, le=10_000_000)] | None = Field(
        None, description="Call the client before spending more than this"
    )
    loaner: Annotated[str, Field(max_length=200)] = Field(
        "", description="The device they got to use meanwhile"
    )
    guaranteed_until: date | None = Field(None, description="Until when the work is guaranteed")
    earlier_visit_id: int | None = Field(
        None, description="The earlier visit that it comes back from"
    )


class NewVisit(VisitEdit):
    """A machine is taken in for a visit."""

    machine_id: int
    place: Place = "shelf"
    shelf: Annotated[str, Field(max_length=60, examples=["B3"])] = ""
    assignee_id: int | None = Field(None, description="Number of the person who acts first")


class NextTurn(Demand):
    """Who acts next, what is to be done, by when, and where the machine is meanwhile."""

    turn: Turn
    assignee_id: int | None = Field(
        None, description="Number of the person, where one of us acts next"
    )
    todo: Annotated[str, Field(max_length=400, examples=["approve the new disk"])] = ""
    follow_up_on: date | None = None
    place: Place | None = Field(None, description="Left out: where it was")
    shelf: Annotated[str, Field(max_length=60)] | None = None


class HandOver(Demand):
    """The visit ends."""

    outcome: Outcome
    comment: Annotated[str, Field(max_length=2000)] = ""
    guaranteed_until: date | None = None


class Visit(Value):
    id: int = Field(description="The number that is spoken, and stands on the claim slip")
    machine_id: int
    machine_tag: str
    client_id: int
    client_name: str
    kind: VisitKind
    reported_problem: str
    condition: str
    accessories: str
    due_on: date | None
    approval_limit: int | None
    loaner: str
    guaranteed_until: date | None
    earlier_visit_id: int | None
    place: Place
    shelf: str
    turn: Turn
    assignee_id: int | None
    assignee_name: str = ""
    todo: str
    follow_up_on: date | None
    moved_at: Moment
    ready_at: Moment | None = Field(None, description="Since when it can be fetched")
    ready_mail: str = Field("", description="Who was told so by mail, and is reminded")
    reminded: int = 0
    opened_by: str
    opened_at: Moment
    closed_by: str = ""
    closed_at: Moment | None
    outcome: Outcome | None
    overdue: bool = Field(
        False, description="The next step, or the whole visit, was due before today"
    )
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
    return any(day is not None and day < today for day in (visit.follow_up_on, visit.due_on))


def opened_in_words(visit: Visit) -> str:
    """For the machine's record."""
    parts = [f"Visit {visit.id} opened, {visit.kind}"]
    if visit.reported_problem:
        parts.append(f"The client says: “{visit.reported_problem.rstrip('. ')}”")
    if visit.condition:
        parts.append(f"Condition: {visit.condition}")
    if visit.accessories:
        parts.append(f"Accessories: {visit.accessories}")
    if visit.due_on:
        parts.append(f"Due {visit.due_on}")
    if visit.approval_limit is not None:
        parts.append(f"Call before spending more than {visit.approval_limit}")
    if visit.earlier_visit_id is not None:
        parts.append(f"Back from visit {visit.earlier_visit_id}")
    return _sentences(parts)


def moved_in_words(visit: Visit) -> str:
    todo = f": {visit.todo}" if visit.todo else ""
    until = f", until {visit.follow_up_on}" if visit.follow_up_on else ""
    where = {"client": "at the client's", "bench": "on the bench"}.get(visit.place, "on the shelf")
    shelf = f" {visit.shelf}" if visit.place == "shelf" and visit.shelf else ""
    parts = [
        f"Visit {visit.id}: {waiting_for(visit.turn, visit.assignee_name)}{todo}{until}",
        f"The machine is {where}{shelf}",
    ]
    return _sentences(parts)


def waiting_for(turn: Turn, assignee_name: str = "") -> str:
    """For whom a visit waits, as in "waiting for the client"."""
    names = {Turn.US: assignee_name or "us", Turn.CLIENT: "the client", Turn.SUPPLIER: "a supplier"}
    return f"waiting for {names[turn]}"


def closed_in_words(visit: Visit, word: str) -> str:
    parts = [f"Visit {visit.id} ended: handed over {visit.outcome}"]
    if word:
        parts.append(word)
    if visit.guaranteed_until:
        parts.append(f"Guaranteed until {visit.guaranteed_until}")
    return _sentences(parts)


def _sentences(parts: list[str]) -> str:
    return " ".join(part if part[-1] in ".!?" else f"{part}." for part in parts)
