"""Retention rules: what each scope says, and what is in force."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from phylax.core.catalogue import catalogue
from phylax.core.events import EventKind
from phylax.core.people import Role
from phylax.core.retention import Rule, Scope, ScopedRule, ShopRule, in_force
from phylax.service.deeds import Deed, TheDeed, check_match, with_etag
from phylax.service.house import TheHouse
from phylax.service.problems import Problem, documented, not_found
from phylax.service.signin import Signed, Technician
from phylax.store import rules, shop
from phylax.store.database import Connection

router = APIRouter(prefix="/rules", tags=["rules"])


@router.get("")
def list_rules(house: TheHouse, actor: Signed) -> list[ShopRule]:
    """A line for each category."""
    with house.db.read() as conn:
        said = {r.category: r for r in rules.rules(conn, Scope.SHOP, 0)}
        differ = rules.overrides(conn)
    lines = []
    for key, category in catalogue().items():
        scopes = [(Scope.CATALOGUE, category.rule)]
        if key in said:
            scopes.append((Scope.SHOP, said[key].rule))
        rule = in_force(scopes)
        lines.append(
            ShopRule(
                category=key,
                name=category.name,
                catalogue=category.rule,
                shop=said.get(key),
                in_force=rule,
                in_words=rule.in_words(),
                overrides=differ.get(key, 0),
            )
        )
    return lines


@router.get("/{scope}/{subject_id}/{category}", responses=documented(404))
def get_rule(
    scope: Scope,
    subject_id: int,
    category: str,
    house: TheHouse,
    actor: Signed,
    response: Response,
) -> ScopedRule:
    """What one scope says about one category; subject 0 is the shop."""
    with house.db.read() as conn:
        found = rules.rule(conn, scope, subject_id, category)
    if found is None:
        raise Problem(404, "not-found", f"The {scope} says nothing about {category!r}.")
    with_etag(found, response)
    return found


@router.put("/{scope}/{subject_id}/{category}", responses=documented(403, 404, 412, 422, 428))
def put_rule(
    scope: Scope,
    subject_id: int,
    category: str,
    rule: Rule,
    deed: TheDeed,
    technician: Technician,
    request: Request,
    response: Response,
) -> ScopedRule:
    """Say something at a scope. A rule that is there already is changed with its If-Match."""
    with deed.house.db.write() as conn:
        subject = _check_subject(conn, deed, scope, subject_id, category)
        before = rules.rule(conn, scope, subject_id, category)
        if before is not None:
            changed = (before.changed_by, int(before.changed_at.timestamp()))
            check_match(request, before, changed)
        rules.put(conn, scope, subject_id, category, rule, who=deed.who, at=deed.now)
        after = rules.rule(conn, scope, subject_id, category)
        assert after is not None
        deed.audit(conn, "change rule", f"{category} for {subject}", before, after)
        deed.tell(conn, EventKind.RULE, subject_id if scope is Scope.MACHINE else None)
    with_etag(after, response)
    return after


def _check_subject(
    conn: Connection, deed: Deed, scope: Scope, subject_id: int, category: str
) -> str:
    """Who the rule is for, in words; problems where that cannot be."""
    if category not in catalogue():
        raise not_found("category", category)
    match scope:
        case Scope.CATALOGUE:
            raise Problem(403, "not-allowed", "The catalogue's own rules are not changed here.")
        case Scope.SHOP:
            if deed.actor.person.role is not Role.OWNER:
                raise Problem(403, "not-your-role", "The shop's rules are the owner's to change.")
            if subject_id != 0:
                raise not_found("shop", subject_id)
            return "the shop"
        case Scope.CLIENT:
            client = shop.client(conn, subject_id)
            if client is None:
                raise not_found("client", subject_id)
            return client.name
        case Scope.MACHINE:
            machine = shop.machine(conn, subject_id)
            if machine is None:
                raise not_found("machine", subject_id)
            return machine.tag
