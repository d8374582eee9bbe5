"""Passkeys: made, listed, taken off, and signed in by."""

from __future__ import annotations

import sqlite3

from fastapi import APIRouter, Request, Response

from phylax.core.people.accounts import NewPasskey, Passkey, PasskeyChallenge, PasskeySignIn, Person
from phylax.service.context.context import Context, TheContext, the_shop
from phylax.service.http import auth, passkeys, signing_in
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange
from phylax.service.http.passkeys import WrongPasskeyError
from phylax.service.limits.login_throttle import TooManyTriesError
from phylax.service.problems import Problem, documented, invalid, not_found
from phylax.store.people import passkeys as store
from phylax.store.people import people

router = APIRouter(tags=["passkeys"])
_MOST = 20
_TRIES = "(passkey)"
"""As what tries are counted; no login is written so."""


@router.post("/passkey/question", responses=documented(403, 409))
def ask_for_passkey(context: TheContext, request: Request) -> PasskeyChallenge:
    """What a device is to sign, for somebody who signs in by a passkey."""
    auth.check_origin(request)
    host = passkeys.host_of(request)
    options = passkeys.options_to_sign_in(context.challenges, host, now=context.now())
    return PasskeyChallenge(options=options)


@router.post("/passkey/sign-in", responses=documented(401, 403, 409, 422, 429))
def sign_in_by_passkey(
    signed: PasskeySignIn, context: TheContext, request: Request, response: Response
) -> Person:
    """Sign in by what a device signed; the answer sets the session's cookie."""
    auth.check_origin(request)
    address = signing_in.address_of(request)
    try:
        context.tries.begin(_TRIES, address, known=None, now=context.now())
    except TooManyTriesError as error:
        raise Problem(
            429, "too-many-tries", f"Too many tries; try again in {error.seconds} seconds.",
            headers={"Retry-After": str(error.seconds)},
        ) from None  # fmt: skip
    try:
        person = _sign_in(context, signed.credential, request, response)
    except WrongPasskeyError:
        signing_in.note_failure(context, _TRIES, address)
        raise Problem(
            401, "sign-in-failed", "This passkey is not known here, or its time was over."
        ) from None
    context.tries.succeeded(_TRIES, address, known=None)
    return person


def _sign_in(context: Context, said: str, request: Request, response: Response) -> Person:
    credential, now = passkeys.credential_of(said), context.now()
    with context.db.read() as conn:
        kept = store.by_credential(conn, credential)
    if kept is None:
        raise WrongPasskeyError
    # how long a signature takes to check is the device's to say: nobody waits for the file then
    count = passkeys.signed(context.challenges, kept, said, request, now=now)
    with context.db.write() as conn:
        person = people.by_id(conn, kept.person_id)
        is_there = store.by_credential(conn, credential) == kept
        if person is None or not person.active or not is_there:
            raise WrongPasskeyError
        store.note_use(conn, kept.id, count, at=now)
        signing_in.begin_session(conn, context, person, request, response, by_passkey=True)
        signing_in.note_sign_in(conn, context, person, request)
    return person


@router.get("/me/passkeys")
def list_passkeys(context: TheContext, actor: Signed) -> list[Passkey]:
    """One's own."""
    with context.db.read() as conn:
        return store.of_person(conn, actor.person.id)


@router.post("/me/passkeys/question", responses=documented(409))
def begin_passkey(change: TheChange, request: Request) -> PasskeyChallenge:
    """What a device is to make a passkey for."""
    context, person = change.context, change.actor.person
    host = passkeys.host_of(request)
    with context.db.read() as conn:
        shop, known = the_shop(conn), store.credentials_of(conn, person.id)
    if len(known) >= _MOST:
        raise Problem(409, "many-passkeys", f"You have {_MOST} passkeys; take one off first.")
    return PasskeyChallenge(
        options=passkeys.options_to_make(
            context.challenges, person, shop.name, known, host, now=change.now
        )
    )


@router.post("/me/passkeys", status_code=201, responses=documented(409, 422))
def add_passkey(new: NewPasskey, change: TheChange, request: Request) -> Passkey:
    """Keep what a device made; whoever is at this browser signed in by it."""
    context, person = change.context, change.actor.person
    try:
        made = passkeys.made(context.challenges, person, new.credential, request, now=change.now)
    except WrongPasskeyError:
        raise invalid(
            "/credential", "This passkey does not fit what was asked; begin anew."
        ) from None
    with context.db.write() as conn:
        try:
            number = store.add(
                conn, person.id, made.credential, made.public_key, made.sign_count,
                host=made.host, name=new.name, at=change.now,
            )  # fmt: skip
        except sqlite3.IntegrityError:
            raise invalid("/credential", "This passkey is somebody's already.") from None
        if change.actor.via == "session":
            people.note_passkey_session(conn, change.actor.secret)
        change.audit(conn, "add passkey", f"{new.name} of {person.login}")
        return next(k for k in store.of_person(conn, person.id) if k.id == number)


@router.delete("/me/passkeys/{passkey_id}", status_code=204, responses=documented(404))
def remove_passkey(passkey_id: int, change: TheChange) -> None:
    """One's own; what is signed in by it stays signed in."""
    person = change.actor.person
    with change.context.db.write() as conn:
        if not store.remove(conn, person.id, passkey_id):
            raise not_found("passkey", passkey_id)
        change.audit(conn, "take passkey off", f"{passkey_id} of {person.login}")
