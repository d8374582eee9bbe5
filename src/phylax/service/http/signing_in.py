"""Signing in by password, with a second step where the person has one."""

from __future__ import annotations

import hmac
from functools import partial
from sqlite3 import Connection

import anyio.to_thread
import pyotp
from fastapi import Request, Response
from zxcvbn import zxcvbn

from phylax.core.people.accounts import Person, SignIn
from phylax.service.context.context import Context
from phylax.service.context.secret_box import LostKeyError
from phylax.service.http.auth import COOKIE, KNOWN_COOKIE, hashed, new_secret
from phylax.service.limits.connection_limiter import network_of
from phylax.service.limits.hashing import is_password
from phylax.service.limits.login_throttle import TooManyTriesError
from phylax.service.problems import Problem, invalid
from phylax.store.people import people
from phylax.store.record import audit

SESSION_SECONDS = 14 * 86400
_KNOWN_SECONDS = 400 * 86400
_STEP = 30
_GUESSABLE = 3
"""Of four, by zxcvbn: guessed with less than 10^8 tries is too little."""


async def sign_in(
    context: Context, who: SignIn, request: Request, *, needs_code: bool = True
) -> Person:
    """The person, or a problem. A try is counted before anything is checked; `needs_code` is False
    where the person is signed in already."""
    address = address_of(request)
    cookie = request.cookies.get(KNOWN_COOKIE, "")
    browser = hashed(cookie)
    # who has none is told to wait without anything being looked up
    known = bool(cookie) and await anyio.to_thread.run_sync(_is_known, context, browser, who.login)
    counted = browser if known else None
    try:
        context.tries.begin(who.login, address, known=counted, now=context.now())
    except TooManyTriesError as error:
        raise Problem(
            429,
            "too-many-tries",
            f"Too many failed tries; try again in {error.seconds} seconds.",
            headers={"Retry-After": str(error.seconds)},
        ) from None
    account = await anyio.to_thread.run_sync(_account, context, who.login)
    kept = account[1] if account and account[0].active else None
    right = await context.hashing.run(partial(is_password, kept, who.password), known=known)
    if not right or account is None:
        await anyio.to_thread.run_sync(note_failure, context, who.login, address)
        raise Problem(401, "sign-in-failed", "Login or password is wrong.")
    person = account[0]
    if needs_code and person.needs_code:
        await anyio.to_thread.run_sync(_check_code, context, person, who.code, address)
    elif needs_code and person.passkeys:
        await anyio.to_thread.run_sync(_check_may_go_without, context, person)
    context.tries.succeeded(who.login, address, known=counted)
    return person


def address_of(request: Request) -> str:
    """Where a request comes from."""
    return network_of(request.client.host if request.client else "")


def begin_session(
    conn: Connection,
    context: Context,
    person: Person,
    request: Request,
    response: Response,
    *,
    by_passkey: bool = False,
) -> None:
    """Give the browser its session cookie, and know it from now on."""
    secret, hash_ = new_secret("session")
    known, known_hash = new_secret("known")
    now = context.now()
    people.begin_session(
        conn, hash_, person.id, at=now, until=now + SESSION_SECONDS,
        address=address_of(request), browser=shown(request.headers.get("user-agent", ""), 200),
        by_passkey=by_passkey,
    )  # fmt: skip
    people.know_browser(conn, known_hash, person.id, at=now)
    for name, value, seconds in (
        (COOKIE, secret, SESSION_SECONDS),
        (KNOWN_COOKIE, known, _KNOWN_SECONDS),
    ):
        response.set_cookie(
            name, value, max_age=seconds, httponly=True, samesite="strict",
            secure=context.secure_cookies, path="/",
        )  # fmt: skip


def note_sign_in(conn: Connection, context: Context, person: Person, request: Request) -> None:
    """In the audit, with where from."""
    subject = f"{person.login} from {address_of(request)}"
    audit.record(conn, who=person.name, at=context.now(), action="sign in", subject=subject)


def check_guessable(password: str, login: str, name: str, pointer: str) -> None:
    """Refuse what is guessed soon, saying why."""
    # what is longer is not looked at: the survey takes longer with each character
    judged = zxcvbn(password[:72], user_inputs=[login, name, *name.split(), "phylax"])
    if judged["score"] < _GUESSABLE:
        why = judged["feedback"]["warning"] or "It is guessed too soon."
        raise invalid(pointer, f"{why.rstrip('.')}. Take some words that do not belong together.")


def new_codes() -> str:
    """A secret of a second step."""
    return pyotp.random_base32()


def codes_address(secret: str, login: str, shop: str) -> str:
    """For an app that makes codes."""
    return pyotp.TOTP(secret).provisioning_uri(name=login, issuer_name=shop)


def opened(context: Context, kept: str) -> str:
    """The secret of somebody's codes; a problem where its key is gone."""
    try:
        return context.vault.open(kept)
    except LostKeyError as lost:
        raise Problem(
            409, "key-lost", "The service lost the key of your codes; an owner takes them off."
        ) from lost


def step_of(secret: str, code: str, now: int) -> int | None:
    """The step whose code this is, the one before and after it included; None: none of them."""
    codes = pyotp.TOTP(secret)
    wanted = "".join(code.split())
    for step in (now // _STEP + 1, now // _STEP, now // _STEP - 1):
        if hmac.compare_digest(codes.at(step * _STEP).encode(), wanted.encode()):
            return step
    return None


def shown(text: str, most: int) -> str:
    """A text of a stranger's that can be shown: no codes, not long."""
    return "".join(c if c.isprintable() else "?" for c in text)[:most]


def _is_known(context: Context, browser: bytes, login: str) -> bool:
    with context.db.read() as conn:
        return people.is_browser_of(conn, browser, login)


def _account(context: Context, login: str) -> tuple[Person, str] | None:
    with context.db.read() as conn:
        return people.by_login(conn, login)


def _check_code(context: Context, person: Person, code: str, address: str) -> None:
    if not code:
        raise Problem(401, "code-needed", "Give the code of your app as well.")
    with context.db.write() as conn:
        step = None
        if kept := people.codes_secret(conn, person.id):
            step = step_of(opened(context, kept), code, context.now())
        if step is not None and people.use_code(conn, person.id, step):
            return
    note_failure(context, person.login, address)
    raise Problem(401, "sign-in-failed", "This code is wrong, or was used before.")


def _check_may_go_without(context: Context, person: Person) -> None:
    """Where the shop wants a second step, a password alone opens nothing for who has a passkey:
    else whoever has the password would set up codes of their own."""
    with context.db.read() as conn:
        if people.codes_for(conn).includes(person.role):
            raise Problem(
                401, "passkey-needed", "This shop wants a second step: sign in with your passkey. "
                "If you lost it, an owner takes it off."
            )  # fmt: skip


def note_failure(context: Context, login: str, address: str) -> None:
    """In the audit; of many in a short time only how many, so that nobody fills it."""
    now = context.now()
    before = context.failures.note(login, address, now=now)
    if before is None:
        return
    more = f", and {before} more before" if before else ""
    with context.db.write() as conn:
        subject = f"{shown(login, 63)} from {address}{more}"
        audit.record(conn, who="somebody", at=now, action="sign-in failed", subject=subject)
