"""The shop's people: who they are, what they may do, how they come in and leave; and the audit."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response

from phylax.core.ground.values import from_seconds
from phylax.core.people.accounts import (
    Activity,
    AuditEntry,
    CodesFor,
    CodesRule,
    LinkShown,
    NewPerson,
    NewRole,
    Person,
    Role,
)
from phylax.core.people.offboarding import Leaving
from phylax.core.record.records import ChainCheck
from phylax.service.context.context import TheContext
from phylax.service.http import auth
from phylax.service.http.auth import Owner, Signed
from phylax.service.http.changes import TheChange
from phylax.service.http.paging import NEWEST, Before, Limit, page
from phylax.service.http.signing_in import check_guessable
from phylax.service.limits.hashing import hash_password
from phylax.service.problems import Problem, documented, not_found
from phylax.store.erasing import data_retention
from phylax.store.people import offboarding, people
from phylax.store.record import audit

router = APIRouter(tags=["people"])
LINK_SECONDS = 3 * 86400
NO_PASSWORD = ""
"""Is nobody's: nothing hashes to it."""


@router.get("/people")
def list_people(context: TheContext, actor: Signed) -> list[Person]:
    with context.db.read() as conn:
        return people.everyone(conn)


@router.post(
    "/people", status_code=201, response_model=Person, responses=documented(403, 409, 422, 503)
)
def add_person(new: NewPerson, change: TheChange, owner: Owner) -> Response:
    """Add somebody; without a password they choose one by a one-time link."""
    kept = NO_PASSWORD
    if (password := new.password) is not None:
        check_guessable(password, new.login, new.name, "/password")
        kept = change.context.hashing.run_here(lambda: hash_password(password))

    def act(conn: Connection) -> Person:
        made = people.add(conn, new.login, new.name, new.role, kept, at=change.now)
        change.audit(conn, "add person", made.login, after=made)
        return made

    return change.once(new, act)


@router.put("/people/{person_id}/activity", responses=documented(403, 404, 409))
def set_activity(person_id: int, activity: Activity, change: TheChange, owner: Owner) -> Person:
    """Say whether a person may sign in; their sign-ins and tokens end for good when not."""
    with change.context.db.write() as conn:
        before = _person_here(conn, person_id)
        if not activity.active:
            _keep_an_owner(conn, before)
        people.set_active(conn, person_id, activity.active, at=change.now)
        after = before.model_copy(update={"active": activity.active})
        change.audit(conn, "set activity", before.login, before, after)
    return after


@router.put("/people/{person_id}/role", responses=documented(403, 404, 409))
def set_role(person_id: int, new: NewRole, change: TheChange, owner: Owner) -> Person:
    """Say what a person may do from now on; what they signed in with goes on with it."""
    with change.context.db.write() as conn:
        before = _person_here(conn, person_id)
        if new.role is not Role.OWNER:
            _keep_an_owner(conn, before)
        people.set_role(conn, person_id, new.role)
        after = before.model_copy(update={"role": new.role})
        change.audit(conn, "set role", before.login, before, after)
    return after


@router.post("/people/{person_id}/leaving", responses=documented(403, 404, 409))
def leave_for_good(person_id: int, change: TheChange, owner: Owner) -> Person:
    """Somebody leaves the shop: all they signed in with ends, what they did stays theirs."""
    with change.context.db.write() as conn:
        before = _person_here(conn, person_id)
        _keep_an_owner(conn, before)
        people.set_left(conn, person_id, at=change.now)
        after = before.model_copy(
            update={
                "active": False,
                "left_at": from_seconds(change.now),
                "needs_code": False,
                "passkeys": 0,
            }
        )
        change.audit(conn, "leave for good", before.login, before, after)
    return after


@router.get("/people/{person_id}/leaving", responses=documented(403, 404))
def what_leaving_means(person_id: int, context: TheContext, owner: Owner) -> Leaving:
    """What hangs on somebody, before they leave; of who left, what returning means."""
    with context.db.read() as conn:
        months = data_retention.keeping(conn).staff_months
        return offboarding.of_person(conn, _anybody(conn, person_id), months)


@router.post("/people/{person_id}/return", responses=documented(403, 404, 409))
def bring_person_back(person_id: int, change: TheChange, owner: Owner) -> Person:
    """Who left is of the shop again, in the role they had; a link lets them choose a password."""
    with change.context.db.write() as conn:
        before = _anybody(conn, person_id)
        if before.left_at is None:
            raise Problem(409, "not-left", f"{before.name} has not left.")
        if before.forgotten_at is not None:
            raise Problem(409, "forgotten", "Their name is gone; add them anew.")
        people.set_back(conn, person_id)
        after = _anybody(conn, person_id)
        change.audit(conn, "bring person back", before.login, before, after)
    return after


def _anybody(conn: Connection, person_id: int) -> Person:
    person = people.by_id(conn, person_id)
    if person is None:
        raise not_found("person", person_id)
    return person


@router.post("/people/{person_id}/link", status_code=201, responses=documented(403, 404, 409))
def make_link(person_id: int, change: TheChange, owner: Owner) -> LinkShown:
    """A link by which somebody chooses a password, once, within three days: who is new, or forgot
    theirs. One that was made before counts no longer."""
    with change.context.db.write() as conn:
        person = _person_here(conn, person_id)
        if not person.active:
            raise Problem(
                409, "not-active", f"{person.name} may not sign in; say first that they may."
            )
        secret, hashed = auth.new_secret("welcome")
        until = change.now + LINK_SECONDS
        people.make_link(conn, hashed, person_id, change.who, at=change.now, until=until)
        change.audit(conn, "make link", person.login)
    return LinkShown(login=person.login, secret=secret, until=from_seconds(until))


@router.delete("/people/{person_id}/sign-ins", status_code=204, responses=documented(403, 404))
def sign_person_out(person_id: int, change: TheChange, owner: Owner) -> None:
    """End every sign-in and every token of somebody."""
    with change.context.db.write() as conn:
        person = _person_here(conn, person_id)
        people.end_everything(conn, person_id, at=change.now)
        change.audit(conn, "sign out everywhere", person.login)


@router.delete("/people/{person_id}/codes", status_code=204, responses=documented(403, 404))
def take_codes_off(person_id: int, change: TheChange, owner: Owner) -> None:
    """Somebody lost what makes their codes, or their passkeys: they sign in without, until they
    set something up anew."""
    with change.context.db.write() as conn:
        person = _person_here(conn, person_id)
        people.take_steps_off(conn, person_id)
        change.audit(conn, "take codes off", person.login)


@router.get("/codes-rule")
def codes_rule(context: TheContext, actor: Signed) -> CodesRule:
    """Who has to sign in with a code as well."""
    with context.db.read() as conn:
        return CodesRule(codes_for=people.codes_for(conn))


@router.put("/codes-rule", responses=documented(403, 409))
def set_codes_rule(rule: CodesRule, change: TheChange, owner: Owner) -> CodesRule:
    """Say who has to sign in with a code as well. Whoever has none sets one up before anything
    else; who asks has one already, so that they know that it works."""
    if rule.codes_for is not CodesFor.NOBODY and not (
        owner.person.needs_code or owner.person.passkeys
    ):
        raise Problem(
            409, "no-codes", "Set up your own codes or a passkey first, to see that it works."
        )
    with change.context.db.write() as conn:
        before = CodesRule(codes_for=people.codes_for(conn))
        people.set_codes_for(conn, rule.codes_for)
        change.audit(conn, "set codes rule", "people", before, rule)
    return rule


def _person_here(conn: Connection, person_id: int) -> Person:
    person = people.by_id(conn, person_id)
    if person is None:
        raise not_found("person", person_id)
    if person.left_at is not None:
        raise Problem(409, "left", f"{person.name} left for good; add them anew with a new login.")
    return person


def _keep_an_owner(conn: Connection, person: Person) -> None:
    is_last = person.active and person.role is Role.OWNER and people.active_owners(conn) == 1
    if is_last:
        raise Problem(
            409, "last-owner", "The shop needs an owner; make somebody else an owner first."
        )


@router.get("/audit/verification", responses=documented(403))
def verify_audit(context: TheContext, owner: Owner) -> ChainCheck:
    """Follow the digests of all actions."""
    with context.db.read() as conn:
        return audit.verify(conn)


@router.get("/audit", responses=documented(403))
def list_audit(
    context: TheContext,
    owner: Owner,
    request: Request,
    response: Response,
    before: Before = NEWEST,
    limit: Limit = 100,
) -> list[AuditEntry]:
    """Everything that was changed, newest first."""
    with context.db.read() as conn:
        entries = audit.listed(conn, before=before, limit=limit + 1)
    return page(entries, limit, request, response, "before")
