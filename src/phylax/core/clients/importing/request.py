"""What is asked of an import, and what it says of each line."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Base64Bytes, Field, model_validator

from phylax.core.ground.machines import System
from phylax.core.ground.values import Demand, Value

LONGEST_LIST = 8 << 20
"""Bytes of a list."""
MOST_LINES = 20_000
MOST_COLUMNS = 200

Encoding = Literal[
    "utf-8", "utf-16", "windows-1252", "windows-1250", "windows-1251", "iso-8859-15", "macintosh"
]
Separator = Literal[",", ";", "\t", "|"]


class ListField(StrEnum):
    """What a column of a list may hold."""

    CLIENT = "client"
    CLIENT_NUMBER = "client_number"
    CONTACT = "contact"
    MAIL = "mail"
    PHONE = "phone"
    CONTACT_BY = "contact_by"
    HOURS = "hours"
    AGREEMENTS = "agreements"
    CLIENT_NOTE = "client_note"
    NUMBER = "number"
    TAG = "tag"
    SYSTEM = "system"
    SYSTEM_VERSION = "system_version"
    MAKE = "make"
    MODEL = "model"
    SERIAL = "serial"
    YEAR = "year"
    MEMORY = "memory"
    PROCESSOR = "processor"
    USED_FOR = "used_for"
    USED_BY = "used_by"
    LOCATION = "location"
    NOTE = "note"


class NamedColumn(Value):
    """A column of a list, and what it is taken for."""

    column: Annotated[int, Field(ge=1, le=MOST_COLUMNS, description="From 1, from the left")]
    field: ListField | None = Field(None, description="Left out: the column is not read")


class ImportRequest(Demand):
    """A list, and how it is to be read; what is left out is found out."""

    content: Annotated[
        Base64Bytes,
        Field(max_length=LONGEST_LIST * 4 // 3 + 4, description="The file's bytes, as base64"),
    ]
    source: Annotated[str, Field(max_length=60, examples=["spreadsheet"])] = Field(
        "list", description="What the list is called: its own numbers are known by it"
    )
    encoding: Encoding | None = None
    separator: Separator | None = None
    columns: Annotated[tuple[NamedColumn, ...], Field(max_length=MOST_COLUMNS)] = Field(
        (), description="Where the names of columns are not understood"
    )
    system: System | None = Field(None, description="Of machines of which the list does not say it")
    overwrite: bool = Field(
        False, description="Where the list says something else than the shop, the list is right"
    )

    @model_validator(mode="after")
    def _each_once(self) -> ImportRequest:
        fields = [named.field for named in self.columns if named.field]
        if len(set(fields)) < len(fields):
            raise ValueError("two columns are said to hold the same")
        return self


class ImportCommit(ImportRequest):
    """The same, to be done as a preview said."""

    preview: Annotated[str, Field(pattern="^[0-9a-f]{64}$", description="The preview's own name")]


class LineStatus(StrEnum):
    """What becomes of a line."""

    ADDED = "added"
    """A machine, or a client without one, that the shop does not have."""
    COMPLETED = "completed"
    """The shop has it; what it did not know is written down."""
    CHANGED = "changed"
    """The shop has it otherwise, and the list is right."""
    DIFFERS = "differs"
    """The shop has it otherwise, and that stays."""
    SAME = "same"
    DOUBLE = "double"
    """An earlier line is of the same machine."""
    REFUSED = "refused"


class FieldChange(Value):
    """A field that a line says something new of."""

    field: ListField
    before: str = ""
    after: str


class LineResult(Value):
    """A line of the list, and what becomes of it."""

    line: int = Field(description="Of the file, from 1")
    status: LineStatus
    client: str = ""
    tag: str = ""
    new_client: bool = Field(False, description="The first line of a client the shop has not")
    changes: tuple[FieldChange, ...] = ()
    remarks: tuple[str, ...] = Field((), description="What is to be known of it")


class ColumnResult(NamedColumn):
    """A column with its heading and something that stands in it."""

    heading: str
    example: str = ""


class ImportPreview(Value):
    """What an import would do. Nothing is written."""

    preview: str = Field("", description="Its own name: by it, it is done. Empty: it cannot be yet")
    encoding: Encoding
    sure: bool = Field(description="Whether the encoding is sure")
    doubtful: tuple[str, ...] = Field(
        (), description="Lines to look at where it is not sure: are their letters right?"
    )
    separator: Separator
    columns: tuple[ColumnResult, ...]
    needed: str = Field("", description="What is to be said before it can be done")
    count_by_status: dict[LineStatus, int] = Field(default_factory=dict)
    new_clients: int = 0
    lines: tuple[LineResult, ...] = ()


class ImportDone(Value):
    """What an import did."""

    added: int
    completed: int
    changed: int
    new_clients: int
