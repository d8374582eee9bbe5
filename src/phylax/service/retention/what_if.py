"""Rules and protect lists at a scope: who may say what, and what it would mean."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.catalogue import catalogue, category, why_refused
from phylax.core.catalogue.rule_document import Document, Subject
from phylax.core.people.accounts import Role
from phylax.core.retention import Rule, RuleInForce, Scope, in_force
from phylax.core.survey.what_if import Concerned, WhatIf, WhatIfQuestion, answer
from phylax.service.http.auth import Actor
from phylax.service.problems import Problem, invalid, not_found
from phylax.store.clients import shop
from phylax.store.retention import protections, rules
from phylax.store.survey import profiles


def subject_in_words(conn: Connection, scope: Scope, subject_id: int) -> str:
    """Who a scope is about; a problem where there is no such client or machine."""
    match scope:
        case Scope.CATALOGUE:
            raise Problem(403, "not-allowed", "The catalogue's own rules are not changed here.")
        case Scope.SHOP:
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


def check_may_rule(conn: Connection, actor: Actor, scope: Scope, subject_id: int) -> str:
    """As `subject_in_words`, and a problem where it is not this person's to change."""
    if scope is Scope.SHOP and actor.role is not Role.OWNER:
        raise Problem(403, "not-your-role", "The shop's rules are the owner's to change.")
    return subject_in_words(conn, scope, subject_id)


def check_rule(
    conn: Connection, scope: Scope, subject_id: int, key: str, rule: Rule, pointer: str = ""
) -> None:
    """A problem where a scope may not say this of a category."""
    if key not in catalogue():
        raise not_found("category", key, catalogue())
    kind = category(key)
    merged = _merged(conn, scope, subject_id, key, rule)
    if refused := why_refused(kind, rule, merged):
        field, reason = refused
        raise invalid(f"{pointer}/{field}", reason)


def _merged(conn: Connection, scope: Scope, subject_id: int, key: str, rule: Rule) -> RuleInForce:
    """What would be in force at a scope that says this."""
    rules_said = {(r.scope, r.subject_id): r.rule for r in rules.of_category(conn, key)}
    scopes = [(Scope.CATALOGUE, category(key).rule)]
    machine = shop.machine(conn, subject_id) if scope is Scope.MACHINE else None
    client_id = machine.client_id if machine else subject_id
    farther = {Scope.CLIENT: [(Scope.SHOP, 0)], Scope.MACHINE: [(Scope.SHOP, 0)]}.get(scope, [])
    if scope is Scope.MACHINE:
        farther = [*farther, (Scope.CLIENT, client_id)]
    scopes += [(where[0], rules_said[where]) for where in farther if where in rules_said]
    return in_force([*scopes, (scope, rule)])


def what_if(conn: Connection, question: WhatIfQuestion, *, at: int) -> WhatIf:
    """What would be removed over all machines if a scope said something else of a category."""
    check_rule(conn, question.scope, question.subject_id, question.category, question.rule, "/rule")
    subject_in_words(conn, question.scope, question.subject_id)
    kind = category(question.category)
    rules_said = {(r.scope, r.subject_id): r.rule for r in rules.of_category(conn, kind.key)}
    asked = (question.scope, question.subject_id)
    then = {**rules_said, asked: question.rule}
    ruled = {scope: {number for s, number in then if s is scope} for scope in Scope}
    known: dict[tuple[int, int], tuple[RuleInForce, RuleInForce]] = {}

    def both(machine_id: int, client_id: int) -> tuple[RuleInForce, RuleInForce]:
        # most machines are ruled alike: merged once for all that are
        key = (
            machine_id if machine_id in ruled[Scope.MACHINE] else 0,
            client_id if client_id in ruled[Scope.CLIENT] else 0,
        )
        if key not in known:
            where = [(Scope.SHOP, 0), (Scope.CLIENT, client_id), (Scope.MACHINE, machine_id)]
            known[key] = (
                in_force(
                    [
                        (Scope.CATALOGUE, kind.rule),
                        *((w[0], rules_said[w]) for w in where if w in rules_said),
                    ]
                ),
                in_force(
                    [(Scope.CATALOGUE, kind.rule), *((w[0], then[w]) for w in where if w in then)]
                ),
            )
        return known[key]

    systems = frozenset(str(system) for system in kind.systems)
    column = {Scope.CLIENT: "client_id", Scope.MACHINE: "id"}.get(question.scope)
    concerned = [
        Concerned(
            row["id"],
            row["tag"],
            row["name"],
            row["surveyed_at"],
            *both(row["id"], row["client_id"]),
        )
        for row in shop.all_machines(conn)
        if row["system"] in systems and (column is None or row[column] == question.subject_id)
    ]
    return answer(kind.key, kind.caution, concerned, profiles.of_category(conn, kind.key), now=at)


# --- the whole of it as one file -------------------------------------------------------------


def document(conn: Connection) -> Document:
    """All that the shop says now."""
    return Document(
        rules={
            ((scoped_rule.scope, name), scoped_rule.category): scoped_rule.rule
            for name, scoped_rule in rules.all_rules(conn)
        },
        protect=[
            ((protection.scope, protection.subject), protection.entry, protection.note)
            for protection in protections.protections(conn)
        ],
    )


def apply_document(conn: Connection, wanted: Document, *, who: str, at: int) -> None:
    """Make the rules those of the file, and add its protections."""
    clients = {c.name.casefold(): c.id for c in shop.clients(conn, after=0, limit=10**9)}

    def number(subject: Subject) -> int:
        scope, name = subject
        if scope is Scope.SHOP:
            return 0
        if scope is Scope.CLIENT:
            client_id = clients.get(name.casefold())
        else:
            machine = shop.machine_by_tag(conn, name)
            client_id = machine.id if machine else None
        if client_id is None:
            raise invalid("/text", f"there is no {scope} {name!r}")
        return client_id

    now = document(conn)
    for (subject, key), _ in now.rules.items():
        if (subject, key) not in wanted.rules:
            rules.remove(conn, subject[0], number(subject), key, who=who, at=at)
    # farther scopes first: a nearer one is checked against them
    nearness = list(Scope)
    for (subject, key), rule in sorted(
        wanted.rules.items(), key=lambda r: nearness.index(r[0][0][0])
    ):
        subject_id = number(subject)
        check_rule(conn, subject[0], subject_id, key, rule, f"/text: [{subject[0]}.{key}]")
        if now.rules.get((subject, key)) != rule:
            rules.put(conn, subject[0], subject_id, key, rule, who=who, at=at)
    for subject, entry, note in wanted.protect:
        protections.add(conn, subject[0], number(subject), entry, note, who=who, at=at)
