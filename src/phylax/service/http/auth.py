"""Who is asking: session cookies, bearer tokens and what they are good for, agents' keys, roles.

Everything secret but passwords is kept as SHA-256 of a random value of 256 bits.
"""

from __future__ import annotations

import secrets
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from hashlib import sha256
from http.cookies import CookieError, SimpleCookie
from sqlite3 import Connection
from typing import Annotated, Literal

import anyio.to_thread
from fastapi import Depends, Request, Response
from starlette.types import Scope

from phylax.core.backups.restore_epochs import HEADER
from phylax.core.people.accounts import CodesFor, Person, Role, TokenScope
from phylax.service.context.context import Context, TheContext
from phylax.service.problems import Problem
from phylax.store.backups import restore_epoch
from phylax.store.clients import agents
from phylax.store.erasing import forgotten
from phylax.store.people import people

COOKIE = "phylax_session"
KNOWN_COOKIE = "phylax_known"
COMMAND_LINE_SECONDS = 60 * 86400
"""That a sign-in on a command line lasts after its last use."""
_NOTED_EVERY = 600
_SAFE_METHODS = frozenset({"GET", "HEAD", "OPTIONS"})
_ENROLS = frozenset({
    "get_shop", "list_clients", "list_machines", "get_machine", "add_machine",
    "make_enrolment_code", "get_me",
})  # fmt: skip
"""Routes that a token for letting agents in is good for."""
_SETS_UP_CODES = frozenset({
    "get_me", "begin_codes", "confirm_codes", "sign_out", "list_sign_ins", "get_shop",
    "list_passkeys", "begin_passkey", "add_passkey",
})  # fmt: skip
_NOT_WORK = frozenset({
    "make_token", "withdraw_token", "change_password", "list_audit", "begin_passkey", "add_passkey",
    "remove_passkey", "begin_codes", "confirm_codes", "remove_codes",
})  # fmt: skip


def new_secret(prefix: str) -> tuple[str, bytes]:
    """A secret to show once, and its hash to keep."""
    secret = f"{prefix}_{secrets.token_urlsafe(32)}"
    return secret, hashed(secret)


def hashed(secret: str) -> bytes:
    return sha256(secret.encode("utf-8", "surrogateescape")).digest()


@dataclass(frozen=True)
class Actor:
    """A person who asks, and how."""

    person: Person
    via: Literal["session", "token"]
    secret: bytes
    """The hash of what they asked with."""
    scope: TokenScope = TokenScope.EVERYTHING
    lacks_code: bool = False
    """They have to sign in with a code, and have set none up."""

    @property
    def name(self) -> str:
        return self.person.name

    @property
    def role(self) -> Role:
        """What they may do; with a token for work, no more than a technician."""
        if self.scope is TokenScope.WORK and self.person.role is Role.OWNER:
            return Role.TECHNICIAN
        return self.person.role


def check_origin(request: Request) -> None:
    """A change asked for with a cookie must come from the console's own pages."""
    if request.method in _SAFE_METHODS:
        return
    origin = request.headers.get("origin")
    if origin is None or origin.partition("://")[2] != request.headers.get("host"):
        raise Problem(403, "foreign-origin", "This request did not come from the console's pages.")


def signed_in(request: Request, context: TheContext) -> Actor:
    """The person behind a request, by bearer token or session cookie."""
    if secret := _bearer(request.headers.get("authorization", "")):
        actor = _by_token(context, hashed(secret))
        if actor is None:
            raise _unknown("This token is not known, has expired or was withdrawn.")
        _check_scope(actor, request)
        _check_code_set_up(actor, request)
        return actor
    if cookie := request.cookies.get(COOKIE):
        actor = _by_session(context, hashed(cookie))
        if actor is not None:
            check_origin(request)
            _check_code_set_up(actor, request)
            return actor
    raise _unknown("Sign in, or send a bearer token.")


def is_still_signed_in(context: Context, actor: Actor) -> bool:
    """Whether what somebody asked with counts still; for what lasts longer than a request."""
    with context.db.read() as conn:
        if actor.via == "token":
            return people.by_token(conn, actor.secret, at=context.now()) is not None
        return people.by_session(conn, actor.secret, at=context.now()) is not None


def _by_token(context: Context, secret: bytes) -> Actor | None:
    now = context.now()
    with context.db.read() as conn:
        use = people.by_token(conn, secret, at=now)
        codes_for = people.codes_for(conn)
    if use is None:
        return None
    if not 0 <= now - use.used_at < _NOTED_EVERY:
        lasts = now + COMMAND_LINE_SECONDS if use.scope is TokenScope.EVERYTHING else None
        until = lasts if use.expires else None
        _note(context, lambda conn: people.note_token(conn, use.token_id, at=now, until=until))
    # programs have no codes; who signs in on a command line has
    lacks = use.scope is TokenScope.EVERYTHING and _lacks_code(use.person, codes_for)
    return Actor(use.person, "token", secret, use.scope, lacks)


def _note(context: Context, write: Callable[[Connection], None]) -> None:
    """When something was used last. Whoever only reads does so on a full disk as well."""
    with suppress(sqlite3.Error), context.db.write() as conn:
        write(conn)


def _by_session(context: Context, secret: bytes) -> Actor | None:
    now = context.now()
    with context.db.read() as conn:
        known = people.by_session(conn, secret, at=now)
        codes_for = people.codes_for(conn)
    if known is None:
        return None
    if not 0 <= now - known.seen_at < _NOTED_EVERY:
        _note(context, lambda conn: people.note_session(conn, secret, at=now))
    lacks = not known.by_passkey and _lacks_code(known.person, codes_for)
    return Actor(known.person, "session", secret, lacks_code=lacks)


def _lacks_code(person: Person, codes_for: CodesFor) -> bool:
    return codes_for.includes(person.role) and not person.needs_code


def _check_code_set_up(actor: Actor, request: Request) -> None:
    name = getattr(request.scope.get("route"), "name", "")
    if actor.lacks_code and name not in _SETS_UP_CODES:
        raise Problem(
            403, "set-up-codes", "This shop wants a code or a passkey as well: set yours up first, "
            "under Shop, You, or with 'phylax person make-codes'."
        )  # fmt: skip


def _check_scope(actor: Actor, request: Request) -> None:
    name = getattr(request.scope.get("route"), "name", "")
    match actor.scope:
        case TokenScope.EVERYTHING:
            allowed = True
        case TokenScope.READ:
            allowed = request.method in _SAFE_METHODS
        case TokenScope.WORK:
            allowed = name not in _NOT_WORK
        case TokenScope.ENROL:
            allowed = name in _ENROLS
        case TokenScope.METRICS:
            allowed = name == "metrics"
    if not allowed:
        raise Problem(403, "not-this-token", f"This token is good for '{actor.scope}' only.")


def _bearer(header: str) -> str:
    scheme, _, secret = header.partition(" ")
    return secret.strip() if scheme.lower() == "bearer" else ""


async def known_by(context: Context, scope: Scope) -> bytes | None:
    """By what somebody that the shop knows sends a request: who may send much; None: a stranger."""
    headers = dict(scope["headers"])
    secret = _bearer(headers.get(b"authorization", b"").decode("latin-1"))
    cookie = _cookie(headers.get(b"cookie", b"").decode("latin-1"))

    def look() -> bytes | None:
        by = hashed(secret or cookie)
        with context.db.read() as conn:
            if secret:
                known = agents.machine_of_key(conn, by) is not None
                known = known or people.by_token(conn, by, at=context.now()) is not None
            else:
                known = people.by_session(conn, by, at=context.now()) is not None
        return by if known else None

    return await anyio.to_thread.run_sync(look)


def _cookie(header: str) -> str:
    try:
        morsel = SimpleCookie(header).get(COOKIE)
    except CookieError:
        return ""
    return morsel.value if morsel else ""


def _unknown(detail: str) -> Problem:
    return Problem(401, "not-signed-in", detail, headers={"WWW-Authenticate": "Bearer"})


def _at_least(*roles: Role) -> Callable[[Actor], Actor]:
    def check(actor: Signed) -> Actor:
        if actor.role not in roles:
            allowed = " or ".join(roles)
            raise Problem(403, "not-your-role", f"This needs {allowed}; you are {actor.role}.")
        return actor

    return check


Signed = Annotated[Actor, Depends(signed_in)]
Technician = Annotated[Actor, Depends(_at_least(Role.TECHNICIAN, Role.OWNER))]
Owner = Annotated[Actor, Depends(_at_least(Role.OWNER))]


def the_agents_machine(request: Request, context: TheContext, response: Response) -> int:
    """The machine whose agent is calling, by its key. Each answer says which life the records are
    in, so that agents notice where they were set back."""
    if key := _bearer(request.headers.get("authorization", "")):
        by = hashed(key)
        with context.db.read() as conn:
            machine_id = agents.machine_of_key(conn, by)
            response.headers[HEADER] = restore_epoch.current(conn).said()
            is_forgotten = machine_id is None and forgotten.is_of_forgotten(conn, by)
        if machine_id is not None:
            return machine_id
        if is_forgotten:
            with context.db.write() as conn:
                forgotten.note_told(conn, by, at=context.now())
            raise Problem(
                410, "forgotten",
                "This machine's client was forgotten: let go of what is held, and of all that was "
                "noted here.",
            )  # fmt: skip
    raise _unknown("This agent's key is not known; enrol the machine again.")


AgentsMachine = Annotated[int, Depends(the_agents_machine)]
