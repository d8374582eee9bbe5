"""What hangs on somebody of the shop."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.people.accounts import Person
from phylax.core.people.offboarding import Leaving, leaving_means


def of_person(conn: Connection, person: Person, staff_months: int | None) -> Leaving:
    """What their leaving means, or their returning."""

    def numbers(question: str, value: object) -> list[sqlite3.Row]:
        return conn.execute(question, (value,)).fetchall()

    rounds = numbers(
        "SELECT name FROM rounds WHERE ended = 0 AND plan ->> 'responsible_id' = ? ORDER BY name",
        person.id,
    )
    visits = numbers(
        "SELECT id FROM visits WHERE closed_at IS NULL AND assignee_id = ? ORDER BY id", person.id
    )
    facts = Leaving(
        left_at=person.left_at,
        visits=tuple(row[0] for row in visits),
        rounds=tuple(row[0] for row in rounds),
        taken=_count(
            conn, "attention WHERE ended_at IS NULL AND settled_at IS NULL AND taken_by = ?",
            person.name,
        ),
        tokens=_count(
            conn, "tokens WHERE withdrawn_at IS NULL AND scope <> 'everything' AND person_id = ?",
            person.id,
        ),
        calendars=_count(
            conn, "calendars WHERE withdrawn_at IS NULL AND about = 'person' AND subject_id = ?",
            person.id,
        ),
        forgotten_after_months=staff_months,
    )  # fmt: skip
    return facts.model_copy(update={"in_words": leaving_means(facts)})


def _count(conn: Connection, of: str, value: object) -> int:
    return int(conn.execute(f"SELECT count(*) FROM {of}", (value,)).fetchone()[0])
