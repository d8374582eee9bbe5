"""Advice to clients about their machines, and what became of it."""

from __future__ import annotations

import json
import sqlite3
from datetime import date
from sqlite3 import Connection

from phylax.core.desk.advice import AdviceKind, AdviceStatus, Figure, GivenAdvice, Proposal
from phylax.core.ground.values import from_seconds


def of_machine(conn: Connection, machine_id: int) -> list[GivenAdvice]:
    """What is open first, the newest first."""
    rows = conn.execute(
        """
        SELECT * FROM advice WHERE machine_id = ?
        ORDER BY status IN ('declined', 'done', 'dropped'), made_at DESC, id DESC
        """,
        (machine_id,),
    )
    return [_advice(row) for row in rows]


def advice(conn: Connection, number: int) -> GivenAdvice | None:
    row = conn.execute("SELECT * FROM advice WHERE id = ?", (number,)).fetchone()
    return _advice(row) if row else None


def add(
    conn: Connection,
    machine_id: int,
    proposal: Proposal,
    status: AdviceStatus,
    *,
    who: str,
    at: int,
) -> int:
    cursor = conn.execute(
        """
        INSERT INTO advice
            (machine_id, kind, subject, text, figures, status, by, at, made_by, made_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            machine_id, proposal.kind, proposal.subject, proposal.text,
            _figures(proposal.figures), status, who, at, who, at,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def refresh(conn: Connection, number: int, proposal: Proposal) -> None:
    """The figures of what is only proposed move with the machine."""
    conn.execute(
        "UPDATE advice SET text = ?, figures = ? WHERE id = ? AND status = 'proposed'",
        (proposal.text, _figures(proposal.figures), number),
    )


def withdraw(conn: Connection, number: int) -> None:
    """Nothing speaks for it any more, and nobody has told it."""
    conn.execute("DELETE FROM advice WHERE id = ? AND status = 'proposed'", (number,))


def set_status(
    conn: Connection,
    number: int,
    status: AdviceStatus,
    *,
    who: str,
    word: str,
    at: int,
    again_on: date | None = None,
) -> None:
    conn.execute(
        """
        UPDATE advice SET status = ?, comment = ?, by = ?, at = ?, again_on = ?,
               version = version + 1
        WHERE id = ?
        """,
        (status, word, who, at, again_on and again_on.isoformat(), number),
    )


def _figures(figures: tuple[Figure, ...]) -> str:
    return json.dumps([figure.model_dump() for figure in figures])


def _advice(row: sqlite3.Row) -> GivenAdvice:
    return GivenAdvice(
        id=row["id"],
        machine_id=row["machine_id"],
        kind=AdviceKind(row["kind"]),
        subject=row["subject"],
        text=row["text"],
        figures=tuple(Figure.model_validate(figure) for figure in json.loads(row["figures"])),
        status=AdviceStatus(row["status"]),
        comment=row["comment"],
        by=row["by"],
        at=from_seconds(row["at"]),
        made_by=row["made_by"],
        made_at=from_seconds(row["made_at"]),
        again_on=row["again_on"] and date.fromisoformat(row["again_on"]),
        version=row["version"],
    )
