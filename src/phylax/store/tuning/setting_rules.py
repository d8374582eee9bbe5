"""What each scope says of settings of one value."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.ground.values import from_seconds
from phylax.core.retention import Scope
from phylax.core.tuning.rules import InForce, ScopedTuningRule, TuningRule, in_force


def of_scope(conn: Connection, scope: Scope, subject_id: int) -> list[ScopedTuningRule]:
    """What one scope says of settings, by their keys."""
    rows = conn.execute(
        "SELECT * FROM setting_rules WHERE scope = ? AND subject_id = ? ORDER BY setting",
        (scope, subject_id),
    )
    return [_rule(row) for row in rows]


def rule(conn: Connection, scope: Scope, subject_id: int, setting: str) -> ScopedTuningRule | None:
    row = conn.execute(
        "SELECT * FROM setting_rules WHERE scope = ? AND subject_id = ? AND setting = ?",
        (scope, subject_id, setting),
    ).fetchone()
    return _rule(row) if row else None


def put(
    conn: Connection, scope: Scope, subject_id: int, setting: str, rule: TuningRule,
    *, who: str, at: int,
) -> None:  # fmt: skip
    """Say something of a setting; a rule that says nothing is taken back."""
    if rule == TuningRule():
        conn.execute(
            "DELETE FROM setting_rules WHERE scope = ? AND subject_id = ? AND setting = ?",
            (scope, subject_id, setting),
        )
        return
    conn.execute(
        """
        INSERT INTO setting_rules VALUES (?, ?, ?, ?, 1, ?, ?)
        ON CONFLICT (scope, subject_id, setting) DO UPDATE SET
            rule = excluded.rule, version = version + 1,
            changed_by = excluded.changed_by, changed_at = excluded.changed_at
        """,
        (scope, subject_id, setting, rule.model_dump_json(exclude_none=True), who, at),
    )


def ruled(conn: Connection) -> set[str]:
    """Settings of which any scope says something."""
    return {str(row[0]) for row in conn.execute("SELECT DISTINCT setting FROM setting_rules")}


class StoredSettingRules:
    """What every scope says of one setting, read at once for many machines."""

    def __init__(
        self, conn: Connection, setting: str, instead: tuple[Scope, int, TuningRule] | None = None
    ) -> None:
        """`instead` is a rule that a scope and subject would have in place of theirs."""
        rows = conn.execute(
            "SELECT scope, subject_id, rule FROM setting_rules WHERE setting = ?", (setting,)
        )
        self._setting = setting
        self._merged: dict[tuple[tuple[Scope, int], ...], InForce] = {}
        """By who says something: one object for all machines on which the same counts."""
        self._rules = {
            (Scope(row[0]), int(row[1])): TuningRule.model_validate_json(row[2]) for row in rows
        }
        if instead is not None:
            self._rules[instead[0], instead[1]] = instead[2]

    def in_force(self, machine_id: int, client_id: int) -> InForce:
        of = ((Scope.SHOP, 0), (Scope.CLIENT, client_id), (Scope.MACHINE, machine_id))
        places = tuple(place for place in of if place in self._rules)
        merged = self._merged.get(places)
        if merged is None:
            said = [(place[0], self._rules[place]) for place in places]
            merged = self._merged[places] = in_force(self._setting, said)
        return merged


def in_force_on(conn: Connection, machine_id: int, client_id: int, setting: str) -> InForce:
    """The rule in force for a setting on a machine; the shipped one lies below all."""
    rows = conn.execute(
        """
        SELECT scope, rule FROM setting_rules
        WHERE setting = ? AND ((scope = 'shop' AND subject_id = 0)
            OR (scope = 'client' AND subject_id = ?) OR (scope = 'machine' AND subject_id = ?))
        """,
        (setting, client_id, machine_id),
    )
    return in_force(
        setting, [(Scope(row[0]), TuningRule.model_validate_json(row[1])) for row in rows]
    )


def _rule(row: sqlite3.Row) -> ScopedTuningRule:
    return ScopedTuningRule(
        scope=Scope(row["scope"]),
        subject_id=row["subject_id"],
        setting=row["setting"],
        rule=TuningRule.model_validate_json(row["rule"]),
        version=row["version"],
        changed_by=row["changed_by"],
        changed_at=from_seconds(row["changed_at"]),
    )
