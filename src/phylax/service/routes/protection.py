"""The protect list: what is protected, added by shop, client and machine."""

from __future__ import annotations

from sqlite3 import Connection
from typing import Annotated

from fastapi import APIRouter, Query, Response

from phylax.core.ground.events import EventKind
from phylax.core.retention import Protection, Scope, ScopedProtection
from phylax.core.retention.protection import (
    ListedProtection,
    NewProtection,
    ProtectionOnMachine,
    ProtectTest,
)
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange
from phylax.service.problems import Problem, documented, invalid, not_found
from phylax.service.retention.what_if import check_may_rule
from phylax.service.routes.lookup import find_machine
from phylax.store.retention import protections

router = APIRouter(tags=["protect list"])


@router.get("/protections")
def list_protections(context: TheContext, actor: Signed) -> list[ListedProtection]:
    """Everything that anyone protects, and on how many machines it covers something."""
    with context.db.read() as conn:
        return protections.with_covers(conn, protections.protections(conn))


@router.get("/protections/{number}/machines", responses=documented(404))
def list_covers(number: int, context: TheContext, actor: Signed) -> list[ProtectionOnMachine]:
    """What an entry covers on each machine that it is for: first those where it covers nothing."""
    with context.db.read() as conn:
        if protections.protection(conn, number) is None:
            raise not_found("protection", number)
        return protections.on_machines(conn, number)


@router.post(
    "/protections",
    status_code=201,
    response_model=ScopedProtection,
    responses=documented(403, 404, 409, 422),
)
def add_protection(new: NewProtection, change: TheChange, technician: Technician) -> Response:
    """Add a folder, a pattern or a site to what is protected."""

    def act(conn: Connection) -> ScopedProtection:
        subject = check_may_rule(conn, change.actor, new.scope, new.subject_id)
        made = protections.add(
            conn, new.scope, new.subject_id, new.entry, new.note, who=change.who, at=change.now
        )
        if made is None:
            raise Problem(
                409, "there-already", f"{new.entry.pattern!r} is already on that protect list."
            )
        change.audit(conn, "protect", f"{new.entry.pattern} for {subject}", after=made)
        change.tell(conn, EventKind.RULE, new.subject_id if new.scope is Scope.MACHINE else None)
        return made

    return change.once(new, act)


@router.delete("/protections/{number}", status_code=204, responses=documented(403, 404))
def remove_protection(number: int, change: TheChange, technician: Technician) -> None:
    """Take an entry off the list of the scope that added it."""
    with change.context.db.write() as conn:
        protection = protections.protection(conn, number)
        if protection is None:
            raise not_found("protection", number)
        subject = check_may_rule(conn, change.actor, protection.scope, protection.subject_id)
        protections.remove(conn, number)
        change.audit(
            conn, "protect no more", f"{protection.entry.pattern} for {subject}", protection
        )
        change.tell(conn, EventKind.RULE)


@router.get("/machines/{machine}/protections", responses=documented(404))
def list_in_force(machine: str, context: TheContext, actor: Signed) -> list[ListedProtection]:
    """What is protected on a machine: the shop's, its client's and its own; and what each entry
    covers there."""
    with context.db.read() as conn:
        number = find_machine(conn, machine).id
        return protections.with_covers(conn, protections.in_force_on(conn, number), number)


@router.get("/machines/{machine}/protections/test", responses=documented(404, 422))
def test_protection(
    machine: str,
    context: TheContext,
    actor: Signed,
    path: Annotated[str | None, Query(max_length=8000)] = None,
    site: Annotated[str | None, Query(max_length=300)] = None,
) -> ProtectTest:
    """Which entry protects a path or a site on a machine, if any."""
    if (path is None) == (site is None):
        raise invalid("/path", "give either a path or a site")
    with context.db.read() as conn:
        target = find_machine(conn, machine)
        known = protections.in_force_on(conn, target.id)
    protection = Protection((known_entry.entry for known_entry in known), target.system)
    entry = protection.why(path) if path is not None else protection.why_site(site or "")
    by = next((known_entry for known_entry in known if known_entry.entry == entry), None)
    return ProtectTest(asked=path if path is not None else site or "", protected_by=by)
