"""A report as it is read, on whatever it is drawn: headings, paragraphs, tables, drawings."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.ground.values import Value
from phylax.core.reporting.language import Language


class Heading(Value):
    kind: Literal["heading"] = "heading"
    level: Literal[2, 3]
    text: str


class Paragraph(Value):
    kind: Literal["paragraph"] = "paragraph"
    text: str
    quoted: bool = Field(False, description="Somebody's own words, as they were written")


class Bullets(Value):
    kind: Literal["list"] = "list"
    lines: tuple[str, ...]


class Column(Value):
    name: str
    is_number: bool = False


class Table(Value):
    kind: Literal["table"] = "table"
    columns: tuple[Column, ...]
    rows: tuple[tuple[str, ...], ...]


class Point(Value):
    across: float = Field(ge=0, le=1, description="Where in the span")
    up: float = Field(ge=0, le=1, description="Share that is free")


class Drawing(Value):
    """A line from left to right, from nothing to the whole."""

    kind: Literal["drawing"] = "drawing"
    caption: str
    alt_text: str = Field(description="What is seen, for who does not see it")
    points: tuple[Point, ...]


Block = Annotated[Heading | Paragraph | Bullets | Table | Drawing, Field(discriminator="kind")]


class Document(Value):
    """A whole report."""

    language: Language
    title: str
    day: date = Field(description="When it was made")
    lines: tuple[str, ...] = Field(description="Below the title: for whom, over which span")
    blocks: tuple[Block, ...]
