"""What a report is asked to be about, and reports as they are kept."""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from typing import Annotated

from pydantic import Base64Bytes, Field, model_validator

from phylax.core.ground.addresses import MailAddress
from phylax.core.ground.values import Demand, Moment, Value
from phylax.core.reporting.document import Document
from phylax.core.reporting.language import Language

MOST_NOTES = 100
MOST_MARK = 512 * 1024
"""Bytes of the shop's mark."""


class Part(StrEnum):
    """Parts of a report that can be left out."""

    TOLD = "what the client said"
    DONE = "what was done"
    FIGURES = "before and after"
    LET_GO = "what was let go"
    LEFT = "what was left"
    FOUND = "what was found"
    ADVISED = "what is advised"
    NEXT = "what comes next"
    DRAWING = "free space"


class ReportRequest(Demand):
    """A report over a visit, over a machine in a span, or over a client's machines in a span."""

    visit: int | None = None
    machine_id: int | None = None
    client_id: int | None = None
    first: date | None = Field(None, description="Left out: of a visit its day, else a month ago")
    last: date | None = Field(None, description="Left out: of a visit its end, else today")
    language: Language = "en"
    leave_out: Annotated[tuple[Part, ...], Field(max_length=len(Part))] = ()
    cover: Annotated[str, Field(max_length=2000, examples=["It was the fan."])] = Field(
        "", description="A covering sentence"
    )
    notes: Annotated[tuple[int, ...], Field(max_length=MOST_NOTES)] = Field(
        (), description="Notes by number that go in as they are written"
    )

    @model_validator(mode="after")
    def _of_something(self) -> ReportRequest:
        if [self.visit, self.machine_id, self.client_id].count(None) != 2:
            raise ValueError("a report is over one visit, one machine or one client")
        if self.visit is not None and (self.first or self.last):
            raise ValueError("a visit has its own span; leave 'first' and 'last' out")
        if self.first and self.last and self.first > self.last:
            raise ValueError("'first' is not after 'last'")
        return self


class Report(Value):
    """A report that was made, kept as it was."""

    id: int
    client_id: int
    client_name: str
    machine_tags: tuple[str, ...]
    visit: int | None
    title: str
    language: Language
    first: date
    last: date
    entries: tuple[int, ...] = Field(description="The record's entries that it stands on")
    made_by: str
    made_at: Moment
    sent_to: str = ""
    sent_at: Moment | None = Field(None, description="When it was given to the mail server")


class ReportWhole(Report):
    """A report with its text and the seal of the record as it was then."""

    document: Document
    seal: str


class ReportMail(Demand):
    """A report is sent to a client: this is the yes to it."""

    to: MailAddress


class LetterheadEdit(Demand):
    """What stands at the head and foot of the shop's papers."""

    head: Annotated[str, Field(max_length=400, examples=["Quayside Repairs\n1 Harbour Road"])] = ""
    foot: Annotated[str, Field(max_length=400)] = ""
    terms: Annotated[str, Field(max_length=1500)] = Field(
        "", description="The shop's terms, on each claim slip"
    )
    language: Language = "en"


class NewMark(Demand):
    """The shop's mark: an SVG, PNG or JPEG, without links and scripts."""

    content: Annotated[Base64Bytes, Field(max_length=MOST_MARK)] = Field(description="In base64")


class Letterhead(Value):
    head: str = ""
    foot: str = ""
    terms: str = ""
    language: Language = "en"
    mark: str = Field("", description="The shop's mark: 'svg', 'png', or empty where there is none")
    version: int = 0
