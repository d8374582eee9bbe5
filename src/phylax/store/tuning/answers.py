"""What clients answered to what decides about settings."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection
from typing import Literal

from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.tuning.answers import Answer

AnswerScope = Literal["client", "machine"]


def of_scope(conn: Connection, scope: AnswerScope, subject_id: int) -> list[Answer]:
    rows = conn.execute(
        "SELECT * FROM answers WHERE scope = ? AND subject_id = ?", (scope, subject_id)
    )
    return [_answer(row) for row in rows]


def on_machine(conn: Connection, machine_id: int) -> dict[str, Answer]:
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
        comment=row["comment"],
        who=row["who"],
        at=from_seconds(row["at"]),
    )


def note(conn: Connection, answer: Answer, subject_id: int) -> None:
    conn.execute(
        "INSERT OR REPLACE INTO answers VALUES (?, ?, ?, ?, ?, ?, ?)",
        (answer.scope, subject_id, answer.question, answer.answer, answer.comment, answer.who,
         to_seconds(answer.at)),
    )  # fmt: skip


def forget(conn: Connection, scope: AnswerScope, subject_id: int, question: str) -> None:
    conn.execute(
        "DELETE FROM answers WHERE scope = ? AND subject_id = ? AND question = ?",
        (scope, subject_id, question),
    )
