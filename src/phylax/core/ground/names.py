"""Names that people and data files give: of clients, machines, time zones, settings."""

from __future__ import annotations

from typing import Annotated
from zoneinfo import available_timezones

from pydantic import AfterValidator, Field


def known_zone(name: str) -> str:
    """The name of an IANA time zone, or ValueError saying what is allowed."""
    if name not in available_timezones():
        raise ValueError(f"{name!r} is not a time zone; write an IANA name such as 'Europe/Dublin'")
    return name


Zone = Annotated[str, AfterValidator(known_zone), Field(examples=["Europe/Dublin"])]


Tag = Annotated[
    str,
    Field(
        pattern=r"^[a-z0-9][a-z0-9-]{0,62}$",
        description="Short name on the machine's label: small letters, digits and hyphens",
        examples=["ferry-desk"],
    ),
]


_TAKEN = ("new", "numbers", "free-lines", "labels")
"""What addresses of the console and the service mean something else by."""


def usable_tag(tag: str) -> str:
    """The tag, or ValueError where it would be mistaken for a machine's number or a page."""
    if tag.isdecimal():
        raise ValueError("a tag of digits alone would be mistaken for a number; add a letter")
    if tag in _TAKEN:
        raise ValueError(f"{tag!r} is the name of a page; choose another tag")
    return tag


Name = Annotated[str, Field(min_length=1, max_length=120, examples=["Skerry Ferry Office"])]


Note = Annotated[str, Field(max_length=4000)]


Key = Annotated[str, Field(pattern=r"^[a-z]+(-[a-z]+)*$", max_length=40)]
