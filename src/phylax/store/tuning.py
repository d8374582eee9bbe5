"""Looks at settings, the notebook of programs, answers and rules of programs."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

from phylax.core.retention import Scope
from phylax.core.runs import Run
from phylax.core.tuning.answers import Answer
from phylax.core.tuning.changes import Change, ChangeMade, ChangeState
from phylax.core.tuning.known import KnownEdit, KnownProgram
from phylax.core.tuning.looks import SettingsLook
from phylax.core.tuning.programs import Intent, Program
from phylax.core.tuning.rules import (
    InForce,
    ProgramRule,
    ScopedProgramRule,
    program_in_force,
)
from phylax.core.values import from_seconds, to_seconds

Connection = sqlite3.Connection
AnswerScope = Literal["client", "machine"]


# --- looks --------------------------------------------------------------------------------------


def keep_look(conn: Connection, machine_id: int, look: SettingsLook) -> bool:
    """Keep a look, if it is newer than the one that is kept. What could not be read replaces
    nothing that was."""
    at = to_seconds(look.taken_at)
    kept = conn.execute(
        """
        INSERT INTO settings_looks VALUES (?1, ?2, ?3)
        ON CONFLICT (machine_id) DO UPDATE SET taken_at = ?2, unread = ?3 WHERE taken_at <= ?2
        """,
        (machine_id, at, look.unread),
    ).rowcount
    if not kept or look.unread:
        return bool(kept)
    before = conn.execute(
        "DELETE FROM machine_programs WHERE machine_id = ? RETURNING program_id", (machine_id,)
    ).fetchall()
    for program in look.programs:
        read_as = program.model_dump_json(exclude_defaults=True)
        row = conn.execute(
            """
            INSERT INTO programs (key, read_as) VALUES (?, ?)
            ON CONFLICT (read_as) DO UPDATE SET key = key RETURNING id
            """,
            (program.key, read_as),
        ).fetchone()
        conn.execute("INSERT OR IGNORE INTO machine_programs VALUES (?, ?)", (machine_id, row[0]))
    conn.executemany(
        """
        DELETE FROM programs WHERE id = ?1
            AND NOT EXISTS (SELECT 1 FROM machine_programs WHERE program_id = ?1)
        """,
        [(row[0],) for row in before],
    )
    return True


def look(conn: Connection, machine_id: int) -> SettingsLook | None:
    """A machine's newest look at its settings."""
    row = conn.execute(
        "SELECT taken_at, unread FROM settings_looks WHERE machine_id = ?", (machine_id,)
    ).fetchone()
    if row is None:
        return None
    rows = conn.execute(
        """
        SELECT p.read_as FROM machine_programs m JOIN programs p ON p.id = m.program_id
        WHERE m.machine_id = ? ORDER BY p.key
        """,
        (machine_id,),
    )
    return SettingsLook(
        taken_at=from_seconds(row["taken_at"]),
        unread=row["unread"],
        programs=tuple(_program(read[0]) for read in rows),
    )


def on_machines(conn: Connection, is_meant: Callable[[Program], bool]) -> dict[int, list[Program]]:
    """Programs that are meant, by machine; one that was read alike is one object."""
    found: dict[int, list[Program]] = {}
    for program_id, read_as in conn.execute("SELECT id, read_as FROM programs"):
        program = _program(read_as)
        if is_meant(program):
            for row in conn.execute(
                "SELECT machine_id FROM machine_programs WHERE program_id = ?", (program_id,)
            ):
                found.setdefault(row[0], []).append(program)
    return found


class Spread(NamedTuple):
    """Where a program as it was read is."""

    number: int
    program: Program
    machines: int
    clients: frozenset[int]


def over_the_shop(conn: Connection) -> list[Spread]:
    """Every program as it was read, of most machines first."""
    rows = conn.execute(
        """
        SELECT p.id, p.read_as, count(*), group_concat(DISTINCT m.client_id)
        FROM machine_programs mp
        JOIN programs p ON p.id = mp.program_id JOIN machines m ON m.id = mp.machine_id
        GROUP BY p.id ORDER BY count(*) DESC, p.key
        """
    )
    return [
        Spread(row[0], _program(row[1]), row[2], frozenset(map(int, row[3].split(","))))
        for row in rows
    ]


def some_tags(conn: Connection, number: int, most: int) -> list[str]:
    """Tags of some machines on which a program, as it was read, is."""
    rows = conn.execute(
        """
        SELECT m.tag FROM machine_programs mp JOIN machines m ON m.id = mp.machine_id
        WHERE mp.program_id = ? ORDER BY m.id LIMIT ?
        """,
        (number, most),
    )
    return [row[0] for row in rows]


@lru_cache(maxsize=20_000)
def _program(read_as: str) -> Program:
    return Program.model_validate_json(read_as)


# --- the notebook -------------------------------------------------------------------------------


def notebook(conn: Connection) -> list[KnownProgram]:
    """Everything that was written about programs, by number."""
    return [_known(row) for row in conn.execute("SELECT * FROM known_programs ORDER BY id")]


def known(conn: Connection, number: int) -> KnownProgram | None:
    row = conn.execute("SELECT * FROM known_programs WHERE id = ?", (number,)).fetchone()
    return _known(row) if row else None


def _known(row: sqlite3.Row) -> KnownProgram:
    return KnownProgram(
        id=row["id"],
        edit=KnownEdit.model_validate_json(row["edit"]),
        version=row["version"],
        written_by=row["written_by"],
        written_at=from_seconds(row["written_at"]),
    )


def write_about(conn: Connection, edit: KnownEdit, *, who: str, at: int) -> int:
    """A new entry; returns its number."""
    cursor = conn.execute(
        "INSERT INTO known_programs (edit, written_by, written_at) VALUES (?, ?, ?)",
        (edit.model_dump_json(), who, at),
    )
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def write_anew(conn: Connection, number: int, edit: KnownEdit, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE known_programs SET edit = ?, version = version + 1, written_by = ?, written_at = ?
        WHERE id = ?
        """,
        (edit.model_dump_json(), who, at, number),
    )


def strike_out(conn: Connection, number: int) -> None:
    conn.execute("DELETE FROM known_programs WHERE id = ?", (number,))


# --- answers ------------------------------------------------------------------------------------


def answers(conn: Connection, scope: AnswerScope, subject_id: int) -> list[Answer]:
    rows = conn.execute(
        "SELECT * FROM answers WHERE scope = ? AND subject_id = ?", (scope, subject_id)
    )
    return [_answer(row) for row in rows]


def answers_on(conn: Connection, machine_id: int) -> dict[str, Answer]:
    """What counts for a machine: its own answers before its client's."""
    rows = conn.execute(
        """
        SELECT a.* FROM machines m JOIN answers a
            ON (a.scope = 'client' AND a.subject_id = m.client_id)
            OR (a.scope = 'machine' AND a.subject_id = m.id)
        WHERE m.id = ? ORDER BY a.scope
        """,
        (machine_id,),
    )
    # "client" comes before "machine", which replaces it
    return {row["question"]: _answer(row) for row in rows}


def _answer(row: sqlite3.Row) -> Answer:
    return Answer(
        question=row["question"],
        answer=row["answer"],
        scope=row["scope"],
        word=row["word"],
        who=row["who"],
        at=from_seconds(row["at"]),
    )


def note_answer(conn: Connection, answer: Answer, subject_id: int) -> None:
    conn.execute(
        "INSERT OR REPLACE INTO answers VALUES (?, ?, ?, ?, ?, ?, ?)",
        (answer.scope, subject_id, answer.question, answer.answer, answer.word, answer.who,
         to_seconds(answer.at)),
    )  # fmt: skip


def forget_answer(conn: Connection, scope: AnswerScope, subject_id: int, question: str) -> None:
    conn.execute(
        "DELETE FROM answers WHERE scope = ? AND subject_id = ? AND question = ?",
        (scope, subject_id, question),
    )


# --- rules of programs --------------------------------------------------------------------------


def program_rules(conn: Connection, scope: Scope, subject_id: int) -> list[ScopedProgramRule]:
    """What one scope says of programs, by their keys."""
    rows = conn.execute(
        "SELECT * FROM program_rules WHERE scope = ? AND subject_id = ? ORDER BY program",
        (scope, subject_id),
    )
    return [_rule(row) for row in rows]


def program_rule(
    conn: Connection, scope: Scope, subject_id: int, program: str
) -> ScopedProgramRule | None:
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


def put_program_rule(
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


class Said:
    """What every scope answered and says of programs, read at once for many machines."""

    def __init__(self, conn: Connection) -> None:
        self._answers: dict[tuple[str, int], dict[str, Literal["yes", "no"]]] = {}
        for row in conn.execute("SELECT scope, subject_id, question, answer FROM answers"):
            self._answers.setdefault((row[0], row[1]), {})[row[2]] = row[3]
        self._rules: dict[tuple[str, int], list[tuple[str, ProgramRule]]] = {}
        for row in conn.execute("SELECT scope, subject_id, program, rule FROM program_rules"):
            rule = ProgramRule.model_validate_json(row[3])
            self._rules.setdefault((row[0], row[1]), []).append((row[2], rule))

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


# --- changes ------------------------------------------------------------------------------------


def note_change(conn: Connection, run: Run, made: ChangeMade, *, word: str, at: int) -> None:
    """What a machine did; of a change that is known already, what became of it."""
    if made.id is None:
        return
    if made.state is ChangeState.MADE:
        conn.execute(
            """
            INSERT INTO changes
                (machine_id, run_id, id, program, name, before, after, at, who, state, word)
            VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 'made', ?) ON CONFLICT DO NOTHING
            """,
            (run.machine_id, run.id, made.id, made.program, made.name, made.before, made.after,
             to_seconds(made.at), run.made_by, word),
        )  # fmt: skip
        return
    conn.execute(
        """
        UPDATE changes SET state = ?, ended_at = ?, ended_by = ?
        WHERE machine_id = ? AND id = ? AND state <> 'put back'
        """,
        (made.state, at, run.made_by, run.machine_id, made.id),
    )


def changes_of(conn: Connection, machine_id: int) -> list[Change]:
    """What was changed on a machine, newest first."""
    rows = conn.execute(
        "SELECT * FROM changes WHERE machine_id = ? ORDER BY number DESC", (machine_id,)
    )
    return [_change(row) for row in rows]


def changes_by(conn: Connection, run_id: int) -> list[Change]:
    """What a run changed."""
    rows = conn.execute("SELECT * FROM changes WHERE run_id = ? ORDER BY number", (run_id,))
    return [_change(row) for row in rows]


def changes_named(conn: Connection, machine_id: int, ids: Sequence[str]) -> list[Change]:
    """Changes of a machine, by its own names of them."""
    rows = conn.execute(
        """
        SELECT * FROM changes WHERE machine_id = ? AND id IN (SELECT value FROM json_each(?))
        ORDER BY number
        """,
        (machine_id, json.dumps(list(ids))),
    )
    return [_change(row) for row in rows]


def change(conn: Connection, number: int) -> Change | None:
    row = conn.execute("SELECT * FROM changes WHERE number = ?", (number,)).fetchone()
    return _change(row) if row else None


def change_id(conn: Connection, number: int) -> str:
    """What the machine calls a change."""
    row = conn.execute("SELECT id FROM changes WHERE number = ?", (number,)).fetchone()
    return str(row[0])


def _change(row: sqlite3.Row) -> Change:
    ended = row["ended_at"]
    return Change(
        number=row["number"],
        machine_id=row["machine_id"],
        run_id=row["run_id"],
        program=row["program"],
        name=row["name"],
        before=Intent(row["before"]),
        after=Intent(row["after"]),
        at=from_seconds(row["at"]),
        who=row["who"],
        state=ChangeState(row["state"]),
        ended_at=None if ended is None else from_seconds(ended),
        ended_by=row["ended_by"],
        word=row["word"],
    )
