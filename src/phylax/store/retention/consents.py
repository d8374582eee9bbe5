"""Consents: to one survey's listing, and standing ones."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds
from phylax.core.ground.volumes import VolumeChoice
from phylax.core.retention.consents import (
    LASTS,
    Consent,
    NewConsent,
    NewStandingConsent,
    StandingConsent,
)
from phylax.core.survey import Item


def add(
    conn: Connection,
    new: NewConsent,
    machine_id: int,
    sizes: dict[int, int],
    *,
    who: str,
    at: int,
) -> Consent:
    """A yes to items of known sizes."""
    cursor = conn.execute(
        """
        INSERT INTO consents (survey_id, machine_id, category, whole, items, size, given_by, via,
                              comment, given_at, expires_at)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            new.survey_id, machine_id, new.category, int(new.whole), len(sizes),
            sum(sizes.values()), who, new.via, new.comment, at, at + int(LASTS.total_seconds()),
        ),
    )  # fmt: skip
    consent_id = int(cursor.lastrowid or 0)
    conn.executemany("INSERT INTO consent_items VALUES (?, ?)", [(consent_id, n) for n in sizes])
    made = consent(conn, consent_id)
    assert made is not None
    return made


def _consent(row: sqlite3.Row) -> Consent:
    return Consent(
        id=row["id"],
        survey_id=row["survey_id"],
        machine_id=row["machine_id"],
        category=row["category"],
        whole=bool(row["whole"]),
        items=row["items"],
        size=row["size"],
        given_by=row["given_by"],
        via=row["via"],
        comment=row["comment"],
        given_at=from_seconds(row["given_at"]),
        expires_at=from_seconds(row["expires_at"]),
        used_by_run=row["run_id"],
    )


def consent(conn: Connection, consent_id: int) -> Consent | None:
    row = conn.execute("SELECT * FROM consents WHERE id = ?", (consent_id,)).fetchone()
    return _consent(row) if row else None


def of_machine(conn: Connection, machine_id: int, *, before: int, limit: int) -> list[Consent]:
    rows = conn.execute(
        "SELECT * FROM consents WHERE machine_id = ? AND id < ? ORDER BY id DESC LIMIT ?",
        (machine_id, before, limit),
    )
    return [_consent(row) for row in rows]


def use(conn: Connection, consent_id: int, run_id: int) -> None:
    conn.execute("UPDATE consents SET run_id = ? WHERE id = ?", (run_id, consent_id))


def agreed(conn: Connection, run_id: int) -> list[tuple[Consent, list[Item]]]:
    """The consents a run acts on, each with exactly its items."""
    consents = [
        _consent(r) for r in conn.execute("SELECT * FROM consents WHERE run_id = ?", (run_id,))
    ]
    return [
        (
            consent,
            [
                Item.model_validate_json(row[0])
                for row in conn.execute(
                    """
                    SELECT i.item FROM consent_items c
                    JOIN survey_items i ON i.survey_id = ? AND i.category = ?
                         AND i.number = c.number
                    WHERE c.consent_id = ? ORDER BY c.number
                    """,
                    (consent.survey_id, consent.category, consent.id),
                )
            ],
        )
        for consent in consents
    ]


def agreed_on(conn: Connection, consent: Consent, volumes: VolumeChoice) -> Tally:
    """What of the items agreed to lies on chosen volumes; where theirs is not known, it counts."""
    if volumes.is_all:
        return Tally(count=consent.items, size=consent.size)
    rows = conn.execute(
        """
        SELECT coalesce(json_extract(i.item, '$.mount'), ''), count(*), sum(i.size)
        FROM consent_items c
        JOIN survey_items i ON i.survey_id = ? AND i.category = ? AND i.number = c.number
        WHERE c.consent_id = ? GROUP BY 1
        """,
        (consent.survey_id, consent.category, consent.id),
    )
    return sum(
        (Tally(count=row[1], size=row[2]) for row in rows if not row[0] or volumes.covers(row[0])),
        Tally(),
    )


# --- standing ones ---------------------------------------------------------------------------


def _standing(row: sqlite3.Row) -> StandingConsent:
    back = row["taken_back_at"]
    return StandingConsent(
        id=row["id"],
        machine_id=row["machine_id"],
        category=row["category"],
        given_by=row["given_by"],
        via=row["via"],
        comment=row["comment"],
        given_at=from_seconds(row["given_at"]),
        taken_back_by=row["taken_back_by"] or "",
        taken_back_at=None if back is None else from_seconds(back),
    )


def add_standing(
    conn: Connection, machine_id: int, new: NewStandingConsent, *, who: str, at: int
) -> StandingConsent | None:
    """A standing consent; None where there is one in force already."""
    cursor = conn.execute(
        """
        INSERT INTO standing_consents (machine_id, category, given_by, via, comment, given_at)
        VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING
        """,
        (machine_id, new.category, who, new.via, new.comment, at),
    )
    return standing(conn, int(cursor.lastrowid or 0)) if cursor.rowcount else None


def standing(conn: Connection, number: int) -> StandingConsent | None:
    row = conn.execute("SELECT * FROM standing_consents WHERE id = ?", (number,)).fetchone()
    return _standing(row) if row else None


def standings_of(conn: Connection, machine_id: int) -> list[StandingConsent]:
    """All that were ever given for a machine, newest first."""
    rows = conn.execute(
        "SELECT * FROM standing_consents WHERE machine_id = ? ORDER BY id DESC", (machine_id,)
    )
    return [_standing(row) for row in rows]


def standing_categories(conn: Connection, machine_id: int) -> set[str]:
    """The categories with a standing consent in force."""
    rows = conn.execute(
        "SELECT category FROM standing_consents WHERE machine_id = ? AND taken_back_at IS NULL",
        (machine_id,),
    )
    return {row[0] for row in rows}


def take_back(conn: Connection, number: int, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE standing_consents SET taken_back_by = ?, taken_back_at = ?
        WHERE id = ? AND taken_back_at IS NULL
        """,
        (who, at, number),
    )
