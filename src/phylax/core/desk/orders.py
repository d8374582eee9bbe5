"""What a visit waits for and keeps: parts on order, its client's fetching it, sealed notes."""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.ground.addresses import MailAddress
from phylax.core.ground.values import Demand, Moment, Value


class PartState(StrEnum):
    ORDERED = "ordered"
    ARRIVED = "arrived"
    CALLED_OFF = "called off"


class NewPart(Demand):
    """A part is ordered for a visit."""

    item: Annotated[str, Field(min_length=1, max_length=300, examples=["SSD, 1 TB"])]
    supplier: Annotated[str, Field(max_length=200, examples=["Kittiwake Parts"])] = ""
    expected: date | None = None


class PartStep(Demand):
    """What became of a part."""

    state: PartState


class OrderedPart(Value):
    id: int
    visit_id: int
    machine_tag: str
    client_name: str
    item: str
    supplier: str
    expected: date | None
    state: PartState
    overdue: bool = Field(False, description="It was expected before today")
    ordered_by: str
    ordered_at: Moment
    ended_by: str = ""
    ended_at: Moment | None = None


class ReadyToFetch(Demand):
    """A machine can be fetched."""

    mail: MailAddress | None = Field(
        None,
        description="Its client is told by mail, and reminded after 7, 14 and 30 days: this is "
        "the yes to it. Left out: somebody tells them otherwise",
    )
    comment: Annotated[str, Field(max_length=1000, examples=["It costs 60."])] = ""


class NewSealedNote(Demand):
    """What a client left to sign in with."""

    title: Annotated[str, Field(min_length=1, max_length=100, examples=["Bram's sign-in"])]
    text: Annotated[str, Field(min_length=1, max_length=2000, repr=False)]


class NoteReading(Value):
    who: str
    at: Moment


class SealedNote(Value):
    """That there is a sealed note, and who has read it; not what it says."""

    id: int
    visit_id: int
    title: str
    made_by: str
    made_at: Moment
    destroyed_at: Moment | None = None
    readings: tuple[NoteReading, ...] = ()


class OpenedNote(Value):
    """What a sealed note says."""

    id: int
    title: str
    text: str


def ready_in_words(visit: int, mail: str, word: str) -> str:
    by_mail = f" Its client is told by mail to {mail}." if mail else ""
    return f"Visit {visit}: the machine is ready to collect.{by_mail}{f' {word}' if word else ''}"
