"""The shop's people, how they sign in, and the tokens of their programs."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from phylax.core.ground.names import Name
from phylax.core.ground.values import Demand, Moment, Value


class Role(StrEnum):
    """What a person may do: owner everything, technician the work, desk take in and read."""

    OWNER = "owner"
    TECHNICIAN = "technician"
    DESK = "desk"


Login = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9._-]{0,62}$", examples=["wren"])]
Password = Annotated[str, Field(min_length=10, max_length=200, examples=["four plain words here"])]
"""One that somebody chooses; how hard it is to guess is the service's to say."""
Secret = Annotated[str, Field(min_length=1, max_length=200)]


class NewPerson(Demand):
    login: Login
    name: Name
    role: Role
    password: Password | None = Field(
        None, description="None: they choose one themselves, by a one-time link"
    )


class Person(Value):
    id: int
    login: str
    name: str
    role: Role
    active: bool = True
    left_at: Moment | None = Field(None, description="When they left for good")
    forgotten_at: Moment | None = Field(None, description="Since when their name is not known")
    needs_code: bool = Field(False, description="They sign in with a code as well")
    passkeys: int = Field(0, description="How many of their devices they sign in by")


class NewPassword(Demand):
    """One's own password, changed by who knows the present one."""

    present: Annotated[str, Field(max_length=200, examples=["four plain words here"])]
    new: Annotated[
        str, Field(min_length=10, max_length=200, examples=["five other plain words here"])
    ]


class Activity(Demand):
    """Whether a person may sign in."""

    active: bool


class NewRole(Demand):
    """What a person may do from now on."""

    role: Role


class SignIn(Demand):
    login: Annotated[str, Field(max_length=63, examples=["wren"])]
    password: Annotated[str, Field(max_length=200, examples=["four plain words here"])]
    code: Annotated[str, Field(max_length=10, examples=["492039"])] = Field(
        "", description="Of the second step, where the person has one"
    )


class LinkShown(Value):
    """A link that lets somebody choose a password, once; shown this once."""

    login: str
    secret: str = Field(description="The part of the console's address after /welcome#")
    until: Moment


class Welcome(Demand):
    """Choosing a password by a one-time link."""

    secret: Secret
    password: Password


class CodesBegun(Value):
    """The secret of a second step; it counts once a code of it was given."""

    address: str = Field(
        description="An otpauth address (Key URI format) for an app that makes codes"
    )
    picture: str = Field(description="The same as a QR code: an SVG")


class Code(Demand):
    """A code of six digits (RFC 6238)."""

    code: Annotated[str, Field(min_length=6, max_length=10, examples=["492039"])]


Credential = Annotated[str, Field(min_length=1, max_length=30_000)]
"""What a browser made or signed: PublicKeyCredential.toJSON(), as text."""


class PasskeyChallenge(Value):
    """What a device is asked."""

    options: str = Field(description="Options of WebAuthn as JSON, for PublicKeyCredential")


class NewPasskey(Demand):
    """A key that a device made for its user."""

    name: Annotated[str, Field(min_length=1, max_length=60, examples=["Phone"])]
    credential: Credential


class PasskeySignIn(Demand):
    """Signing in by what a device signed."""

    credential: Credential


class Passkey(Value):
    """One's key on a device."""

    id: int
    name: str
    host: str = Field(description="By which name of the console it counts")
    made_at: Moment
    used_at: Moment | None


class CodesFor(StrEnum):
    """Who has to sign in with a code as well, or by a passkey."""

    NOBODY = "nobody"
    OWNERS = "owners"
    EVERYBODY = "everybody"

    def includes(self, role: Role) -> bool:
        return self is CodesFor.EVERYBODY or (self is CodesFor.OWNERS and role is Role.OWNER)


class CodesRule(Demand):
    """Who has to sign in with a code as well; whoever has none sets one up first."""

    codes_for: CodesFor


class SignedIn(Value):
    """One sign-in by a browser that is open."""

    id: int
    since: Moment
    seen_at: Moment
    until: Moment
    address: str
    browser: str
    is_this: bool = Field(description="The one that asks")


class TokenScope(StrEnum):
    """What a program may do with a token; never more than its person."""

    READ = "read"
    """Look at everything its person may look at."""
    WORK = "work"
    """What a technician does: no people, tokens or settings of the shop."""
    ENROL = "enrol"
    """Machines: list them, add them, let their agents in."""
    METRICS = "metrics"
    """What the service measures of itself, and nothing else."""
    EVERYTHING = "everything"
    """As its person; by signing in on a command line only."""


class NewToken(Demand):
    name: Name
    scope: TokenScope = TokenScope.READ
    days: Annotated[int, Field(ge=1, le=730, description="Until it expires")] = 365


class TokenShown(Value):
    """A new token; its secret is shown this once."""

    id: int
    name: str
    scope: TokenScope
    expires_at: Moment | None
    token: str


class Token(Value):
    """A program's token, without its secret."""

    id: int
    name: str
    login: str
    scope: TokenScope
    made_at: Moment
    used_at: Moment | None
    expires_at: Moment | None = Field(description="None: made before tokens expired")
    withdrawn_at: Moment | None


Whole = Annotated[str, Field(max_length=2**26)]
"""A whole thing as JSON, however many parts it has."""


class AuditEntry(Value):
    """One action: who, when, what, before and after."""

    id: int
    at: Moment
    who: str
    action: str
    subject: str
    before: Whole | None
    after: Whole | None
