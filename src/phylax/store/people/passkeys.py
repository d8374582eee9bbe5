"""People's passkeys: the public halves of keys that lie on their devices."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.values import from_seconds
from phylax.core.people.accounts import Passkey


class KeptPasskey(NamedTuple):
    """What a signature is checked by."""

    id: int
    person_id: int
    public_key: bytes
    sign_count: int
    host: str


def add(
    conn: Connection,
    person_id: int,
    credential: bytes,
    public_key: bytes,
    sign_count: int,
    *,
    host: str,
    name: str,
    at: int,
) -> int:
    cursor = conn.execute(
        """
        INSERT INTO passkeys (person_id, credential, public_key, sign_count, host, name, made_at)
        VALUES (?, ?, ?, ?, ?, ?, ?)
        """,
        (person_id, credential, public_key, sign_count, host, name, at),
    )
    return int(cursor.lastrowid or 0)


def of_person(conn: Connection, person_id: int) -> list[Passkey]:
    rows = conn.execute("SELECT * FROM passkeys WHERE person_id = ? ORDER BY id", (person_id,))
    return [
        Passkey(
            id=row["id"],
            name=row["name"],
            host=row["host"],
            made_at=from_seconds(row["made_at"]),
            used_at=None if row["used_at"] is None else from_seconds(row["used_at"]),
        )
        for row in rows
    ]


def credentials_of(conn: Connection, person_id: int) -> list[bytes]:
    rows = conn.execute("SELECT credential FROM passkeys WHERE person_id = ?", (person_id,))
    return [row[0] for row in rows]


def by_credential(conn: Connection, credential: bytes) -> KeptPasskey | None:
    row = conn.execute(
        """
        SELECT id, person_id, public_key, sign_count, host FROM passkeys WHERE credential = ?
        """,
        (credential,),
    ).fetchone()
    return KeptPasskey(*row) if row else None


def note_use(conn: Connection, number: int, sign_count: int, *, at: int) -> None:
    conn.execute(
        "UPDATE passkeys SET sign_count = ?, used_at = ? WHERE id = ?", (sign_count, at, number)
    )


def remove(conn: Connection, person_id: int, number: int | None = None) -> int:
    """One of a person's, or all; how many there were."""
    return conn.execute(
        "DELETE FROM passkeys WHERE person_id = ? AND (?2 IS NULL OR id = ?2)", (person_id, number)
    ).rowcount
