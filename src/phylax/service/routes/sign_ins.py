"""Signing in and out, one's own password, codes and sign-ins, and the tokens of programs."""

from __future__ import annotations

import io
from sqlite3 import Connection

import anyio.to_thread
import segno
from fastapi import APIRouter, Request, Response

from phylax.core.ground.values import from_seconds
from phylax.core.people.accounts import (
    Code,
    CodesBegun,
    NewPassword,
    NewToken,
    Person,
    Role,
    SignedIn,
    SignIn,
    Token,
    TokenScope,
    TokenShown,
    Welcome,
)
from phylax.service.context.context import Context, TheContext, the_shop
from phylax.service.http import auth, signing_in
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange
from phylax.service.limits.hashing import hash_password
from phylax.service.limits.login_throttle import TooManyTriesError
from phylax.service.problems import Problem, documented, invalid, not_found
from phylax.store.people import people
from phylax.store.record import audit

router = APIRouter(tags=["sign-ins"])
_DAY = 86400


@router.post("/sign-in", responses=documented(401, 403, 409, 422, 429, 503))
async def sign_in(who: SignIn, context: TheContext, request: Request, response: Response) -> Person:
    """Sign in with login and password; the answer sets the session's cookie."""
    auth.check_origin(request)
    person = await signing_in.sign_in(context, who, request)
    await anyio.to_thread.run_sync(_begin, context, person, request, response)
    return person


def _begin(context: Context, person: Person, request: Request, response: Response) -> None:
    with context.db.write() as conn:
        signing_in.begin_session(conn, context, person, request, response)
        signing_in.note_sign_in(conn, context, person, request)


@router.post("/sign-out", status_code=204)
def sign_out(context: TheContext, actor: Signed, request: Request, response: Response) -> None:
    if actor.via == "session":
        with context.db.write() as conn:
            people.end_session(conn, actor.secret)
    response.delete_cookie(auth.COOKIE, path="/")


@router.post(
    "/command-line/sign-in", status_code=201, responses=documented(401, 409, 422, 429, 503)
)
async def sign_in_for_token(who: SignIn, context: TheContext, request: Request) -> TokenShown:
    """Sign in from a program: a token instead of a cookie."""
    person = await signing_in.sign_in(context, who, request)
    return await anyio.to_thread.run_sync(_begin_command_line, context, person, request)


def _begin_command_line(context: Context, person: Person, request: Request) -> TokenShown:
    secret, hashed = auth.new_secret("phylax")
    now = context.now()
    until = now + auth.COMMAND_LINE_SECONDS
    with context.db.write() as conn:
        number = people.add_token(
            conn, hashed, person.id, "command line", TokenScope.EVERYTHING, at=now, until=until
        )
        signing_in.note_sign_in(conn, context, person, request)
    return TokenShown(
        id=number, name="command line", scope=TokenScope.EVERYTHING,
        expires_at=from_seconds(until), token=secret,
    )  # fmt: skip


@router.post("/welcome", responses=documented(403, 422, 429, 503))
async def welcome(
    chosen: Welcome, context: TheContext, request: Request, response: Response
) -> Person:
    """Choose a password by a one-time link, and be signed in with it. All that was signed in
    before ends."""
    auth.check_origin(request)
    try:
        context.tries.begin("", signing_in.address_of(request), known=None, now=context.now())
    except TooManyTriesError as error:
        raise Problem(
            429, "too-many-tries", f"Too many tries; try again in {error.seconds} seconds.",
            headers={"Retry-After": str(error.seconds)},
        ) from None  # fmt: skip
    link = auth.hashed(chosen.secret)

    def of_whom() -> Person:
        with context.db.read() as conn:
            person = people.by_link(conn, link, at=context.now())
        if person is None:
            raise Problem(403, "link-not-valid", "This link was used or is over; ask for another.")
        signing_in.check_guessable(chosen.password, person.login, person.name, "/password")
        return person

    person = await anyio.to_thread.run_sync(of_whom)
    kept = await context.hashing.run(lambda: hash_password(chosen.password))

    def choose() -> None:
        with context.db.write() as conn:
            if not people.use_link(conn, link):
                raise Problem(403, "link-not-valid", "This link was used already.")
            people.end_everything(conn, person.id, at=context.now())
            people.set_password(conn, person.id, kept)
            audit.record(conn, who=person.name, at=context.now(), action="choose password",
                         subject=person.login)  # fmt: skip
            signing_in.begin_session(conn, context, person, request, response)

    await anyio.to_thread.run_sync(choose)
    context.tries.succeeded("", signing_in.address_of(request), known=None)
    return person


@router.get("/me", responses=documented(401))
def get_me(actor: Signed) -> Person:
    return actor.person


@router.post("/me/password", status_code=204, responses=documented(401, 422, 429, 503))
async def change_password(new: NewPassword, change: TheChange, request: Request) -> None:
    """Change one's own password; every open sign-in of oneself ends, tokens stay."""
    context = change.context
    who = SignIn(login=change.actor.person.login, password=new.present)
    # the code was given when this person signed in
    person = await signing_in.sign_in(context, who, request, needs_code=False)
    await anyio.to_thread.run_sync(
        signing_in.check_guessable, new.new, person.login, person.name, "/new"
    )
    kept = await context.hashing.run(lambda: hash_password(new.new), known=True)

    def change_it() -> None:
        with context.db.write() as conn:
            people.set_password(conn, person.id, kept)
            change.audit(conn, "change password", person.login)

    await anyio.to_thread.run_sync(change_it)


# --- a second step ---------------------------------------------------------------------------


@router.post("/me/codes", status_code=201, responses=documented(409))
def begin_codes(change: TheChange) -> CodesBegun:
    """A secret for an app that makes codes; it counts once a code of it is given."""
    person = change.actor.person
    if person.needs_code:
        raise Problem(409, "has-codes", "You sign in with a code already; take that off first.")
    secret = signing_in.new_codes()
    with change.context.db.read() as conn:
        shop = the_shop(conn)
    change.context.begun_codes[person.id] = (secret, change.now)
    address = signing_in.codes_address(secret, person.login, shop.name)
    picture = io.BytesIO()
    segno.make(address, micro=False).save(picture, kind="svg", border=2, scale=5)
    return CodesBegun(address=address, picture=picture.getvalue().decode())


@router.put("/me/codes", status_code=204, responses=documented(404, 422))
def confirm_codes(code: Code, change: TheChange) -> None:
    """The first code of one's app: from now on each sign-in needs one."""
    person = change.actor.person
    secret, begun_at = change.context.begun_codes.get(person.id, ("", 0))
    if not secret or change.now - begun_at > _DAY:
        raise Problem(404, "not-found", "Begin anew: there is no secret that waits for a code.")
    step = signing_in.step_of(secret, code.code, change.now)
    if step is None:
        raise invalid("/code", "This is not the code of now; look at the clock of its device.")
    del change.context.begun_codes[person.id]
    with change.context.db.write() as conn:
        people.set_codes(conn, person.id, change.context.vault.close(secret))
        people.use_code(conn, person.id, step)
        change.audit(conn, "set up codes", person.login)


@router.post("/me/codes/removal", status_code=204, responses=documented(409, 422))
def remove_codes(code: Code, change: TheChange) -> None:
    """Sign in without codes again; a last one shows that it is the person who asks."""
    person = change.actor.person
    with change.context.db.write() as conn:
        kept = people.codes_secret(conn, person.id)
        if kept is None:
            raise Problem(409, "no-codes", "You sign in without codes already.")
        step = signing_in.step_of(signing_in.opened(change.context, kept), code.code, change.now)
        if step is None or not people.use_code(conn, person.id, step):
            raise invalid("/code", "This code is wrong, or was used before.")
        people.set_codes(conn, person.id, None)
        change.audit(conn, "take codes off", person.login)


# --- sign-ins of browsers --------------------------------------------------------------------


@router.get("/me/sign-ins")
def list_sign_ins(context: TheContext, actor: Signed) -> list[SignedIn]:
    """The browsers in which one is signed in, the newest first."""
    with context.db.read() as conn:
        return people.sessions(conn, actor.person.id, actor.secret, at=context.now())


@router.delete("/me/sign-ins/{sign_in_id}", status_code=204, responses=documented(404))
def end_sign_in(sign_in_id: int, change: TheChange) -> None:
    person = change.actor.person
    with change.context.db.write() as conn:
        if not people.end_session_of(conn, person.id, sign_in_id):
            raise not_found("sign-in", sign_in_id)
        change.audit(conn, "end sign-in", person.login)


@router.delete("/me/sign-ins", status_code=204)
def sign_out_everywhere(change: TheChange) -> None:
    """End every sign-in and token of oneself, the one that asks too."""
    person = change.actor.person
    with change.context.db.write() as conn:
        people.end_everything(conn, person.id, at=change.now)
        change.audit(conn, "sign out everywhere", person.login)


# --- tokens of programs ----------------------------------------------------------------------


@router.get("/tokens")
def list_tokens(context: TheContext, actor: Signed) -> list[Token]:
    """One's own tokens; everyone's for the owner."""
    everyone = actor.role is Role.OWNER
    with context.db.read() as conn:
        return people.tokens(conn, None if everyone else actor.person.id)


@router.post(
    "/tokens", status_code=201, response_model=TokenShown, responses=documented(403, 409, 422)
)
def make_token(new: NewToken, change: TheChange) -> Response:
    """A bearer token for a program: what it is good for, and until when."""
    if new.scope is TokenScope.EVERYTHING:
        raise invalid("/scope", "No program may do everything; allowed are read, work, enrol, "
                      "metrics.")  # fmt: skip
    person = change.actor.person
    if new.scope in (TokenScope.WORK, TokenScope.ENROL) and person.role is Role.DESK:
        raise Problem(403, "not-your-role", "A token cannot do more than you: take 'read'.")
    until = change.now + new.days * _DAY

    def act(conn: Connection) -> TokenShown:
        secret, hashed = auth.new_secret("phylax")
        number = people.add_token(
            conn, hashed, person.id, new.name, new.scope, at=change.now, until=until
        )
        change.audit(conn, "make token", f"{new.name} of {person.login}, for '{new.scope}'")
        return TokenShown(
            id=number, name=new.name, scope=new.scope, expires_at=from_seconds(until), token=secret
        )

    return change.once(new, act, secret=True)


@router.delete("/tokens/{token_id}", status_code=204, responses=documented(403, 404))
def withdraw_token(token_id: int, change: TheChange) -> None:
    with change.context.db.write() as conn:
        own = {t.id for t in people.tokens(conn, change.actor.person.id)}
        if token_id not in own and change.actor.role is not Role.OWNER:
            raise Problem(403, "not-yours", "Only the owner withdraws other people's tokens.")
        if not people.withdraw_token(conn, token_id, at=change.now):
            raise not_found("token", token_id)
        change.audit(conn, "withdraw token", str(token_id))
