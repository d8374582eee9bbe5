"""What each scope says of programs."""

from __future__ import annotations

import sqlite3
from functools import lru_cache
from sqlite3 import Connection
from typing import Literal

from phylax.core.ground.values import from_seconds
from phylax.core.retention import Scope
from phylax.core.tuning.rules import (
    InForce,
    ProgramRule,
    ProgramRuleEdit,
    ScopedProgramRule,
    program_in_force,
)


def of_scope(conn: Connection, scope: Scope, subject_id: int) -> list[ScopedProgramRule]:
    """What one scope says of programs, by their keys."""
    rows = conn.execute(
        "SELECT * FROM program_rules WHERE scope = ? AND subject_id = ? ORDER BY program",
        (scope, subject_id),
    )
    return [_rule(row) for row in rows]


def rule(conn: Connection, scope: Scope, subject_id: int, program: str) -> ScopedProgramRule | None:
    row = conn.execute(
        "SELECT * FROM program_rules WHERE scope = ? AND subject_id = ? AND program = ?",
        (scope, subject_id, program),
    ).fetchone()
    return _rule(row) if row else None


def _rule(row: sqlite3.Row) -> ScopedProgramRule:
    return ScopedProgramRule(
        scope=Scope(row["scope"]),
        subject_id=row["subject_id"],
        program=row["program"],
        rule=ProgramRule.model_validate_json(row["rule"]),
        version=row["version"],
        changed_by=row["changed_by"],
        changed_at=from_seconds(row["changed_at"]),
    )


def put(
    conn: Connection, scope: Scope, subject_id: int, program: str, rule: ProgramRule,
    *, who: str, at: int,
) -> None:  # fmt: skip
    """Say something of a program; a rule that says nothing is taken back."""
    if rule == ProgramRule():
        conn.execute(
            "DELETE FROM program_rules WHERE scope = ? AND subject_id = ? AND program = ?",
            (scope, subject_id, program),
        )
        return
    conn.execute(
        """
        INSERT INTO program_rules VALUES (?, ?, ?, ?, 1, ?, ?)
        ON CONFLICT (scope, subject_id, program) DO UPDATE SET
            rule = excluded.rule, version = version + 1,
            changed_by = excluded.changed_by, changed_at = excluded.changed_at
        """,
        (scope, subject_id, program, rule.model_dump_json(exclude_none=True), who, at),
    )


class StoredProgramRules:
    """What every scope answered and says of programs, read at once for many machines."""

    def __init__(
        self, conn: Connection, instead: tuple[Scope, int, ProgramRuleEdit] | None = None
    ) -> None:
        """`instead` is a rule that a scope and subject would have in place of theirs."""
        self._answers: dict[tuple[str, int], dict[str, Literal["yes", "no"]]] = {}
        for row in conn.execute("SELECT scope, subject_id, question, answer FROM answers"):
            self._answers.setdefault((row[0], row[1]), {})[row[2]] = row[3]
        self._rules: dict[tuple[str, int], list[tuple[str, ProgramRule]]] = {}
        for row in conn.execute("SELECT scope, subject_id, program, rule FROM program_rules"):
            rule = ProgramRule.model_validate_json(row[3])
            self._rules.setdefault((row[0], row[1]), []).append((row[2], rule))
        if instead is not None:
            scope, subject_id, edit = instead
            others = self._rules.get((scope.value, subject_id), [])
            kept = [(program, rule) for program, rule in others if program != edit.program]
            self._rules[scope.value, subject_id] = [*kept, (edit.program, edit.rule)]

    def answers(self, machine_id: int, client_id: int) -> dict[str, Literal["yes", "no"]]:
        """What counts for a machine: its own answers before its client's."""
        nearer = self._answers.get(("machine", machine_id), {})
        return {**self._answers.get(("client", client_id), {}), **nearer}

    def rules(self, machine_id: int, client_id: int) -> dict[str, InForce]:
        """The rules in force on a machine, by the program's key."""
        said: dict[str, list[tuple[Scope, ProgramRule]]] = {}
        of = ((Scope.SHOP, 0), (Scope.CLIENT, client_id), (Scope.MACHINE, machine_id))
        for scope, subject_id in of:
            for program, rule in self._rules.get((scope.value, subject_id), ()):
                said.setdefault(program, []).append((scope, rule))
        return {program: _merged(tuple(scopes)) for program, scopes in said.items()}


@lru_cache(maxsize=10_000)
def _merged(scopes: tuple[tuple[Scope, ProgramRule], ...]) -> InForce:
    """Merged once for all machines on which the same is said, so that it is one object."""
    return program_in_force(scopes)
