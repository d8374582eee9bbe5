"""People, signing in and out, their programs' tokens, and the audit."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.people import (
    Activity,
    Audited,
    NewPassword,
    NewPerson,
    NewToken,
    Person,
    Role,
    SignIn,
    Token,
    TokenShown,
)
from phylax.service.context.context import TheContext
from phylax.service.http import auth
from phylax.service.http.auth import Owner, Signed
from phylax.service.http.changes import TheChange
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.problems import Problem, documented, not_found
from phylax.store import audit, people

router = APIRouter(tags=["people"])


@router.post("/sign-in", responses=documented(401, 403, 429))
def sign_in(who: SignIn, context: TheContext, request: Request, response: Response) -> Person:
    """Sign in with login and password; the answer sets the session's cookie."""
    auth.check_origin(request)
    person = auth.sign_in(context, who.login, who.password)
    auth.begin_session(context, person, response)
    return person


@router.post("/sign-out", status_code=204)
def sign_out(context: TheContext, actor: Signed, request: Request, response: Response) -> None:
    if cookie := request.cookies.get(auth.COOKIE):
        with context.db.write() as conn:
            people.end_session(conn, auth.hashed(cookie))
    response.delete_cookie(auth.COOKIE, path="/")


@router.get("/me", responses=documented(401))
def get_me(actor: Signed) -> Person:
    return actor.person


@router.get("/people")
def list_people(context: TheContext, actor: Signed) -> list[Person]:
    with context.db.read() as conn:
        return people.everyone(conn)


@router.post("/people", status_code=201, responses=documented(403, 409, 422))
def add_person(new: NewPerson, change: TheChange, owner: Owner) -> Person:
    hashed = auth.hash_password(new.password)
    with change.context.db.write() as conn:
        made = people.add(conn, new.login, new.name, new.role, hashed, at=change.now)
        change.audit(conn, "add person", made.login, after=made)
    return made


@router.put("/people/{person_id}/activity", responses=documented(403, 404, 409))
def set_activity(person_id: int, activity: Activity, change: TheChange, owner: Owner) -> Person:
    """Say whether a person may sign in; their sign-ins and tokens end at once when not."""
    with change.context.db.write() as conn:
        before = people.by_id(conn, person_id)
        if before is None:
            raise not_found("person", person_id)
        last_owner = before.role is Role.OWNER and people.active_owners(conn) == 1
        if last_owner and not activity.active:
            raise Problem(
                409, "last-owner", "The shop needs an owner; make somebody else an owner first."
            )
        people.set_active(conn, person_id, activity.active)
        after = before.model_copy(update={"active": activity.active})
        change.audit(conn, "set activity", before.login, before, after)
    return after


@router.post("/me/password", status_code=204, responses=documented(401, 422, 429))
def change_password(new: NewPassword, change: TheChange) -> None:
    """Change one's own password; every open sign-in of oneself ends, tokens stay."""
    person = auth.sign_in(change.context, change.actor.person.login, new.present)
    hashed = auth.hash_password(new.new)
    with change.context.db.write() as conn:
        people.set_password(conn, person.id, hashed)
        change.audit(conn, "change password", person.login)


@router.get("/tokens")
def list_tokens(context: TheContext, actor: Signed) -> list[Token]:
    """One's own tokens; everyone's for the owner."""
    everyone = actor.person.role is Role.OWNER
    with context.db.read() as conn:
        return people.tokens(conn, None if everyone else actor.person.id)


@router.post("/tokens", status_code=201)
def make_token(new: NewToken, change: TheChange) -> TokenShown:
    """A bearer token for a program, with one's own role."""
    secret, hashed = auth.new_secret("phylax")
    with change.context.db.write() as conn:
        number = people.add_token(conn, hashed, change.actor.person.id, new.name, at=change.now)
        change.audit(conn, "make token", f"{new.name} of {change.actor.person.login}")
    return TokenShown(id=number, name=new.name, token=secret)


@router.post("/command-line/sign-in", status_code=201, responses=documented(401, 429))
def sign_in_for_token(who: SignIn, context: TheContext) -> TokenShown:
    """Sign in from a program: a token instead of a cookie."""
    person = auth.sign_in(context, who.login, who.password)
    secret, hashed = auth.new_secret("phylax")
    with context.db.write() as conn:
        number = people.add_token(conn, hashed, person.id, "command line", at=context.now())
        audit.record(
            conn, who=person.name, at=context.now(), deed="make token", subject="command line"
        )
    return TokenShown(id=number, name="command line", token=secret)


@router.delete("/tokens/{token_id}", status_code=204, responses=documented(403, 404))
def withdraw_token(token_id: int, change: TheChange) -> None:
    with change.context.db.write() as conn:
        own = {t.id for t in people.tokens(conn, change.actor.person.id)}
        if token_id not in own and change.actor.person.role is not Role.OWNER:
            raise Problem(403, "not-yours", "Only the owner withdraws other people's tokens.")
        if not people.withdraw_token(conn, token_id, at=change.now):
            raise not_found("token", token_id)
        change.audit(conn, "withdraw token", str(token_id))


@router.get("/audit", responses=documented(403))
def list_audit(
    context: TheContext,
    owner: Owner,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 100,
) -> list[Audited]:
    """Everything that was changed, newest first."""
    with context.db.read() as conn:
        entries = audit.listed(conn, before=before, limit=limit + 1)
    return page(entries, limit, request, response, "before")
