"""The shop's people, how they sign in, and the tokens of their programs."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.shop import Name
from phylax.core.values import Demand, Moment, Value


class Role(StrEnum):
    """What a person may do: owner everything, technician the work, desk take in and read."""

    OWNER = "owner"
    TECHNICIAN = "technician"
    DESK = "desk"


class NewPerson(Demand):
    login: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9._-]{0,62}$", examples=["wren"])]
    name: Name
    role: Role
    password: Annotated[
        str, Field(min_length=10, max_length=200, examples=["four plain words here"])
    ]


class Person(Value):
    id: int
    login: str
    name: str
    role: Role
    active: bool = True


class NewPassword(Demand):
    """One's own password, changed by who knows the present one."""

    present: Annotated[str, Field(max_length=200, examples=["four plain words here"])]
    new: Annotated[
        str, Field(min_length=10, max_length=200, examples=["five other plain words here"])
    ]


class Activity(Demand):
    """Whether a person may sign in."""

    active: bool


class SignIn(Demand):
    login: Annotated[str, Field(examples=["wren"])]
    password: Annotated[str, Field(max_length=200, examples=["four plain words here"])]


class NewToken(Demand):
    name: Name


class TokenShown(Value):
    """A new token; its secret is shown this once."""

    id: int
    name: str
    token: str


class Token(Value):
    """A program's token, without its secret."""

    id: int
    name: str
    login: str
    made_at: Moment
    used_at: Moment | None
    withdrawn_at: Moment | None


class Audited(Value):
    """One deed: who, when, what, before and after."""

    id: int
    at: Moment
    who: str
    deed: str
    subject: str
    before: str | None
    after: str | None
