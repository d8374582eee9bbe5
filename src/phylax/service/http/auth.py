"""Who is asking: sign-in by password, session cookies, bearer tokens, agents' keys, roles.

Passwords are kept as Argon2id, everything else secret as SHA-256 of a random value of 256 bits.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from hashlib import sha256
from typing import Annotated, Literal

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError
from fastapi import Depends, Request, Response

from phylax.core.generations import HEADER
from phylax.core.people import Person, Role
from phylax.service.context.context import Context, TheContext
from phylax.service.problems import Problem
from phylax.store import agents, generation, people

COOKIE = "phylax_session"
SESSION_SECONDS = 14 * 86400
_FREE_FAILURES = 4
_LONGEST_WAIT = 300
_SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})

_hasher = PasswordHasher()


def hash_password(password: str) -> str:
    return _hasher.hash(password)


@cache
def _nobodys_password() -> str:
    """Checked for unknown logins, so that the time does not tell who exists."""
    return _hasher.hash(secrets.token_hex())


def new_secret(prefix: str) -> tuple[str, bytes]:
    """A secret to show once, and its hash to keep."""
    secret = f"{prefix}_{secrets.token_urlsafe(32)}"
    return secret, hashed(secret)


def hashed(secret: str) -> bytes:
    return sha256(secret.encode("utf-8")).digest()


@dataclass(frozen=True)
class Actor:
    """A person who asks, and how."""

    person: Person
    via: Literal["session", "token"]

    @property
    def name(self) -> str:
        return self.person.name


def sign_in(context: Context, login: str, password: str) -> Person:
    """The person, or a problem; after some failures each try has to wait longer."""
    now = context.now()
    with context.db.read() as conn:
        failures, last_at = people.failures(conn, login)
        account = people.by_login(conn, login)
    wait = min(_LONGEST_WAIT, 2 ** (failures - _FREE_FAILURES)) if failures >= _FREE_FAILURES else 0
    if now < last_at + wait:
        left = last_at + wait - now
        raise Problem(
            429,
            "too-many-tries",
            f"Too many failed tries; try again in {left} seconds.",
            headers={"Retry-After": str(left)},
        )
    try:
        _hasher.verify(account[1] if account else _nobodys_password(), password)
        known = account is not None and account[0].active
    except VerificationError:
        known = False
    with context.db.write() as conn:
        if not known:
            people.note_failure(conn, login, at=now)
        elif failures:
            people.forget_failures(conn, login)
    if not known or account is None:
        raise Problem(401, "sign-in-failed", "Login or password is wrong.")
    return account[0]


def begin_session(context: Context, person: Person, response: Response) -> None:
    """Give the browser its session cookie."""
    secret, hash_ = new_secret("session")
    now = context.now()
    with context.db.write() as conn:
        people.begin_session(conn, hash_, person.id, at=now, until=now + SESSION_SECONDS)
    response.set_cookie(
        COOKIE,
        secret,
        max_age=SESSION_SECONDS,
        httponly=True,
        samesite="strict",
        secure=context.secure_cookies,
        path="/",
    )


def check_origin(request: Request) -> None:
    """A change asked for with a cookie must come from the console's own pages."""
    if request.method in _SAFE_METHODS:
        return
    origin = request.headers.get("origin")
    if origin is None or origin.partition("://")[2] != request.headers.get("host"):
        raise Problem(403, "foreign-origin", "This request did not come from the console's pages.")


def signed_in(request: Request, context: TheContext) -> Actor:
    """The person behind a request, by bearer token or session cookie."""
    scheme, _, secret = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() == "bearer" and secret:
        with context.db.read() as conn:
            known = people.by_token(conn, hashed(secret.strip()))
        if known:
            return Actor(known[0], "token")
        raise _unknown("This token is not known or was withdrawn.")
    if cookie := request.cookies.get(COOKIE):
        with context.db.read() as conn:
            person = people.by_session(conn, hashed(cookie), at=context.now())
        if person:
            check_origin(request)
            return Actor(person, "session")
    raise _unknown("Sign in, or send a bearer token.")


def _unknown(detail: str) -> Problem:
    return Problem(401, "not-signed-in", detail, headers={"WWW-Authenticate": "Bearer"})


def _at_least(*roles: Role) -> Callable[[Actor], Actor]:
    def check(actor: Signed) -> Actor:
        if actor.person.role not in roles:
            allowed = " or ".join(roles)
            raise Problem(
                403, "not-your-role", f"This needs {allowed}; you are {actor.person.role}."
            )
        return actor

    return check


Signed = Annotated[Actor, Depends(signed_in)]
Technician = Annotated[Actor, Depends(_at_least(Role.TECHNICIAN, Role.OWNER))]
Owner = Annotated[Actor, Depends(_at_least(Role.OWNER))]


def the_agents_machine(request: Request, context: TheContext, response: Response) -> int:
    """The machine whose agent is calling, by its key. Each answer says which life the records are
    in, so that agents notice where they were set back."""
    scheme, _, key = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() == "bearer" and key:
        with context.db.read() as conn:
            machine_id = agents.machine_of_key(conn, hashed(key.strip()))
            response.headers[HEADER] = generation.current(conn).said()
        if machine_id is not None:
            return machine_id
    raise _unknown("This agent's key is not known; enrol the machine again.")


AgentsMachine = Annotated[int, Depends(the_agents_machine)]
