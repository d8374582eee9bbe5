"""Retention rules: what each scope says, what is in force, and what another would let go."""

from __future__ import annotations

from sqlite3 import Connection

from fastapi import APIRouter, Request, Response
from fastapi.responses import PlainTextResponse

from phylax.core.catalogue import catalogue
from phylax.core.catalogue.rule_document import (
    Differences,
    NewDocument,
    differences,
    read,
    write,
)
from phylax.core.ground.events import EventKind
from phylax.core.people.accounts import Role
from phylax.core.retention import Rule, Scope, ScopedRule, ShopRule, in_force
from phylax.core.survey.what_if import WhatIf, WhatIfQuestion
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed, Technician
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.problems import Problem, documented, invalid
from phylax.service.retention.what_if import (
    apply_document,
    check_may_rule,
    check_rule,
    document,
    subject_in_words,
    what_if,
)
from phylax.store.retention import rules

router = APIRouter(prefix="/rules", tags=["rules"])


@router.get("")
def list_rules(context: TheContext, actor: Signed) -> list[ShopRule]:
    """A line for each category."""
    with context.db.read() as conn:
        shop_rules = {r.category: r for r in rules.rules(conn, Scope.SHOP, 0)}
        differ = rules.overrides(conn)
    lines = []
    for key, category in catalogue().items():
        scopes = [(Scope.CATALOGUE, category.rule)]
        if key in shop_rules:
            scopes.append((Scope.SHOP, shop_rules[key].rule))
        rule = in_force(scopes)
        lines.append(
            ShopRule(
                category=key,
                name=category.name,
                caution=category.caution,
                cost=category.cost,
                catalogue=category.rule,
                shop=shop_rules.get(key),
                in_force=rule,
                in_words=category.in_words(rule),
                overrides=differ.get(key, 0),
            )
        )
    return lines


@router.post("/what-if", responses=documented(403, 404, 422))
def ask_what_if(question: WhatIfQuestion, context: TheContext, actor: Signed) -> WhatIf:
    """What another rule would remove, by the last surveys; nothing is changed or touched."""
    with context.db.read() as conn:
        return what_if(conn, question, at=context.now())


@router.get("/document", response_class=PlainTextResponse)
def get_document(context: TheContext, actor: Signed) -> PlainTextResponse:
    """All rules and protect lists as one TOML file."""
    with context.db.read() as conn:
        text = write(document(conn))
    return PlainTextResponse(text, media_type="application/toml")


@router.post("/document", responses=documented(403, 422))
def put_document(new: NewDocument, change: TheChange) -> Differences:
    """Make the rules those of a file and add its protections, or only show what would change."""
    if change.actor.role is not Role.OWNER:
        raise Problem(403, "not-your-role", "All rules at once are the owner's to change.")
    try:
        wanted = read(new.text)
    except ValueError as error:
        raise invalid("/text", str(error)) from None

    class NotForGood(Exception):
        """The dry run is over."""

    try:
        with change.context.db.write() as conn:
            before = document(conn)
            apply_document(conn, wanted, who=change.who, at=change.now)
            changed = tuple(differences(before, document(conn)))
            done = Differences(applied=not new.dry_run, differences=changed)
            if new.dry_run:
                raise NotForGood
            change.audit(conn, "replace rules", "all", after=done)
            change.tell(conn, EventKind.RULE)
    except NotForGood:
        pass
    return done


@router.get("/{scope}/{subject_id}/{category}", responses=documented(404))
def get_rule(
    scope: Scope,
    subject_id: int,
    category: str,
    context: TheContext,
    actor: Signed,
    response: Response,
) -> ScopedRule:
    """What one scope says about one category; subject 0 is the shop."""
    with context.db.read() as conn:
        known = _said(conn, scope, subject_id, category)
    with_etag(known, response)
    return known


def _said(conn: Connection, scope: Scope, subject_id: int, category: str) -> ScopedRule:
    known = rules.rule(conn, scope, subject_id, category)
    if known is None:
        raise Problem(404, "not-found", f"The {scope} has no rule for {category!r}.")
    return known


@router.put("/{scope}/{subject_id}/{category}", responses=documented(403, 404, 412, 422, 428))
def put_rule(
    scope: Scope,
    subject_id: int,
    category: str,
    rule: Rule,
    change: TheChange,
    technician: Technician,
    request: Request,
    response: Response,
) -> ScopedRule:
    """Say something at a scope. A rule that is there already is changed with its If-Match."""
    with change.context.db.write() as conn:
        subject = check_may_rule(conn, change.actor, scope, subject_id)
        check_rule(conn, scope, subject_id, category, rule)
        before = rules.rule(conn, scope, subject_id, category)
        if before is not None:
            changed = (before.changed_by, int(before.changed_at.timestamp()))
            check_match(request, before, changed)
        rules.put(conn, scope, subject_id, category, rule, who=change.who, at=change.now)
        after = rules.rule(conn, scope, subject_id, category)
        assert after is not None
        change.audit(conn, "change rule", f"{category} for {subject}", before, after)
        change.tell(conn, EventKind.RULE, subject_id if scope is Scope.MACHINE else None)
    with_etag(after, response)
    return after


@router.delete(
    "/{scope}/{subject_id}/{category}",
    status_code=204,
    responses=documented(403, 404, 412, 428),
)
def remove_rule(
    scope: Scope,
    subject_id: int,
    category: str,
    change: TheChange,
    technician: Technician,
    request: Request,
) -> None:
    """The scope says nothing of the category any more; a farther one's counts again."""
    with change.context.db.write() as conn:
        subject = check_may_rule(conn, change.actor, scope, subject_id)
        before = _said(conn, scope, subject_id, category)
        check_match(request, before, (before.changed_by, int(before.changed_at.timestamp())))
        rules.remove(conn, scope, subject_id, category, who=change.who, at=change.now)
        change.audit(conn, "remove rule", f"{category} for {subject}", before)
        change.tell(conn, EventKind.RULE, subject_id if scope is Scope.MACHINE else None)


@router.get("/{scope}/{subject_id}", responses=documented(403, 404))
def list_said(
    scope: Scope, subject_id: int, context: TheContext, actor: Signed
) -> list[ScopedRule]:
    """Everything that one scope says."""
    with context.db.read() as conn:
        subject_in_words(conn, scope, subject_id)
        return rules.rules(conn, scope, subject_id)
