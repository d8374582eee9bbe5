"""What each scope says about each category."""

from __future__ import annotations

import sqlite3
from functools import lru_cache
from sqlite3 import Connection

from phylax.core.catalogue import catalogue
from phylax.core.ground.values import from_seconds
from phylax.core.retention import Rule, RuleInForce, Scope, ScopedRule, in_force
from phylax.store.retention import changes


def _rule(row: sqlite3.Row) -> ScopedRule:
    return ScopedRule(
        scope=Scope(row["scope"]),
        subject_id=row["subject_id"],
        category=row["category"],
        rule=Rule.model_validate_json(row["rule"]),
        version=row["version"],
        changed_by=row["changed_by"],
        changed_at=from_seconds(row["changed_at"]),
    )


def rule(conn: Connection, scope: Scope, subject_id: int, category: str) -> ScopedRule | None:
    row = conn.execute(
        "SELECT * FROM rules WHERE scope = ? AND subject_id = ? AND category = ?",
        (scope, subject_id, category),
    ).fetchone()
    return _rule(row) if row else None


def rules(conn: Connection, scope: Scope, subject_id: int) -> list[ScopedRule]:
    rows = conn.execute(
        "SELECT * FROM rules WHERE scope = ? AND subject_id = ?", (scope, subject_id)
    )
    return [_rule(row) for row in rows]


def overrides(conn: Connection) -> dict[str, int]:
    """How many clients and machines differ from the shop, by category."""
    rows = conn.execute(
        "SELECT category, count(*) FROM rules WHERE scope <> 'shop' GROUP BY category"
    )
    return {row[0]: row[1] for row in rows}


def put(
    conn: Connection,
    scope: Scope,
    subject_id: int,
    category: str,
    rule: Rule,
    *,
    who: str,
    at: int,
) -> None:
    _note_change(conn, scope, subject_id, category, rule, who=who, at=at)
    conn.execute(
        """
        INSERT INTO rules VALUES (?, ?, ?, ?, 1, ?, ?)
        ON CONFLICT (scope, subject_id, category) DO UPDATE SET
            rule = excluded.rule, version = version + 1,
            changed_by = excluded.changed_by, changed_at = excluded.changed_at
        """,
        (scope, subject_id, category, rule.model_dump_json(exclude_none=True), who, at),
    )


def remove(
    conn: Connection, scope: Scope, subject_id: int, category: str, *, who: str, at: int
) -> None:
    """The scope says nothing of this category any more."""
    _note_change(conn, scope, subject_id, category, None, who=who, at=at)
    conn.execute(
        "DELETE FROM rules WHERE scope = ? AND subject_id = ? AND category = ?",
        (scope, subject_id, category),
    )


def _note_change(
    conn: Connection,
    scope: Scope,
    subject_id: int,
    category: str,
    to: Rule | None,
    *,
    who: str,
    at: int,
) -> None:
    """What the scope said and now says, in words; by itself, whatever other scopes say."""
    kind = catalogue().get(category)
    if kind is None:
        return
    known = rule(conn, scope, subject_id, category)
    words = [
        kind.in_words(
            in_force([(Scope.CATALOGUE, kind.rule), *([(scope, said_rule)] if said_rule else [])])
        )
        for said_rule in (known.rule if known else None, to)
    ]
    changes.note_rule(conn, scope, subject_id, category, words[0], words[1], who=who, at=at)


def all_rules(conn: Connection) -> list[tuple[str, ScopedRule]]:
    """Everything that anyone says, each with the client's name or the machine's tag."""
    rows = conn.execute(
        """
        SELECT r.*, coalesce(c.name, m.tag, '') AS subject FROM rules r
        LEFT JOIN clients c ON r.scope = 'client' AND c.id = r.subject_id
        LEFT JOIN machines m ON r.scope = 'machine' AND m.id = r.subject_id
        """
    )
    return [(row["subject"], _rule(row)) for row in rows]


def of_category(conn: Connection, category: str) -> list[ScopedRule]:
    """What every scope says of one category."""
    rows = conn.execute("SELECT * FROM rules WHERE category = ?", (category,))
    return [_rule(row) for row in rows]


def in_force_on(conn: Connection, machine_id: int) -> dict[str, RuleInForce]:
    """The rule that decides for each category on a machine, and where it comes from."""
    rows = conn.execute(
        """
        SELECT 1 AS nearness, r.category, r.scope, r.rule FROM rules r
        WHERE r.scope = 'shop' AND r.subject_id = 0
        UNION ALL
        SELECT 2, r.category, r.scope, r.rule FROM machines m
        JOIN rules r ON r.scope = 'client' AND r.subject_id = m.client_id WHERE m.id = :machine
        UNION ALL
        SELECT 3, r.category, r.scope, r.rule FROM rules r
        WHERE r.scope = 'machine' AND r.subject_id = :machine
        ORDER BY nearness
        """,
        {"machine": machine_id},
    )
    triples = tuple((row["category"], row["scope"], row["rule"]) for row in rows)
    return dict(_merged(tuple(catalogue()), triples))


@lru_cache(maxsize=512)
def _merged(
    keys: tuple[str, ...], rows: tuple[tuple[str, str, str], ...]
) -> dict[str, RuleInForce]:
    """For these categories, by what the scopes say, as (category, scope, rule): most machines of a
    shop share it."""
    rules_of: dict[str, list[tuple[Scope, Rule]]] = {
        key: [(Scope.CATALOGUE, catalogue()[key].rule)] for key in keys
    }
    for category, scope, text in rows:
        if category in rules_of:
            rules_of[category].append((Scope(scope), Rule.model_validate_json(text)))
    return {key: in_force(scopes) for key, scopes in rules_of.items()}
