"""People, their sign-ins and the tokens of their programs. Secrets are kept only as hashes."""

from __future__ import annotations

import sqlite3

from phylax.core.people import Person, Role, Token
from phylax.core.values import from_seconds

Connection = sqlite3.Connection


def _person(row: sqlite3.Row) -> Person:
    return Person(
        id=row["id"],
        login=row["login"],
        name=row["name"],
        role=Role(row["role"]),
        active=bool(row["active"]),
    )


def add(conn: Connection, login: str, name: str, role: Role, password: str, *, at: int) -> Person:
    """A new person; `password` is its Argon2id hash."""
    conn.execute(
        "INSERT INTO people (login, name, role, password, made_at) VALUES (?, ?, ?, ?, ?)",
        (login, name, role, password, at),
    )
    known = by_login(conn, login)
    assert known is not None
    return known[0]


def everyone(conn: Connection) -> list[Person]:
    return [_person(row) for row in conn.execute("SELECT * FROM people ORDER BY name")]


def by_login(conn: Connection, login: str) -> tuple[Person, str] | None:
    """A person and their password hash."""
    row = conn.execute("SELECT * FROM people WHERE login = ?", (login,)).fetchone()
    return (_person(row), row["password"]) if row else None


def by_id(conn: Connection, person_id: int) -> Person | None:
    row = conn.execute("SELECT * FROM people WHERE id = ?", (person_id,)).fetchone()
    return _person(row) if row else None


def active_owners(conn: Connection) -> int:
    row = conn.execute("SELECT count(*) FROM people WHERE role = 'owner' AND active").fetchone()
    return int(row[0])


def set_password(conn: Connection, person_id: int, password: str) -> None:
    """A new hash; every open sign-in of the person ends."""
    conn.execute("UPDATE people SET password = ? WHERE id = ?", (password, person_id))
    conn.execute("DELETE FROM sessions WHERE person_id = ?", (person_id,))


def set_active(conn: Connection, person_id: int, active: bool) -> None:
    conn.execute("UPDATE people SET active = ? WHERE id = ?", (int(active), person_id))
    if not active:
        conn.execute("DELETE FROM sessions WHERE person_id = ?", (person_id,))


# --- sign-ins --------------------------------------------------------------------------------


def begin_session(conn: Connection, hashed: bytes, person_id: int, *, at: int, until: int) -> None:
    conn.execute("DELETE FROM sessions WHERE expires_at < ?", (at,))
    conn.execute("INSERT INTO sessions VALUES (?, ?, ?, ?)", (hashed, person_id, at, until))


def by_session(conn: Connection, hashed: bytes, *, at: int) -> Person | None:
    row = conn.execute(
        """
        SELECT p.* FROM sessions s JOIN people p ON p.id = s.person_id
        WHERE s.hash = ? AND s.expires_at > ? AND p.active
        """,
        (hashed, at),
    ).fetchone()
    return _person(row) if row else None


def end_session(conn: Connection, hashed: bytes) -> None:
    conn.execute("DELETE FROM sessions WHERE hash = ?", (hashed,))


def failures(conn: Connection, login: str) -> tuple[int, int]:
    """How often in a row sign-in failed for a login, and when last."""
    row = conn.execute(
        "SELECT failures, last_at FROM sign_in_failures WHERE login = ?", (login,)
    ).fetchone()
    return (row[0], row[1]) if row else (0, 0)


def note_failure(conn: Connection, login: str, *, at: int) -> None:
    conn.execute(
        """
        INSERT INTO sign_in_failures VALUES (?, 1, ?)
        ON CONFLICT (login) DO UPDATE SET failures = failures + 1, last_at = excluded.last_at
        """,
        (login, at),
    )


def forget_failures(conn: Connection, login: str) -> None:
    conn.execute("DELETE FROM sign_in_failures WHERE login = ?", (login,))


# --- tokens ----------------------------------------------------------------------------------


def add_token(conn: Connection, hashed: bytes, person_id: int, name: str, *, at: int) -> int:
    cursor = conn.execute(
        "INSERT INTO tokens (hash, person_id, name, made_at) VALUES (?, ?, ?, ?)",
        (hashed, person_id, name, at),
    )
    return int(cursor.lastrowid or 0)


def by_token(conn: Connection, hashed: bytes) -> tuple[Person, int] | None:
    """The person a token stands for, and the token's number."""
    row = conn.execute(
        """
        SELECT p.*, t.id AS token_id FROM tokens t JOIN people p ON p.id = t.person_id
        WHERE t.hash = ? AND t.withdrawn_at IS NULL AND p.active
        """,
        (hashed,),
    ).fetchone()
    return (_person(row), row["token_id"]) if row else None


def tokens(conn: Connection, person_id: int | None = None) -> list[Token]:
    """Tokens of one person, or of everyone."""
    rows = conn.execute(
        """
        SELECT t.*, p.login FROM tokens t JOIN people p ON p.id = t.person_id
        WHERE :person IS NULL OR t.person_id = :person ORDER BY t.id
        """,
        {"person": person_id},
    )
    return [
        Token(
            id=row["id"],
            name=row["name"],
            login=row["login"],
            made_at=from_seconds(row["made_at"]),
            used_at=row["used_at"] and from_seconds(row["used_at"]),
            withdrawn_at=row["withdrawn_at"] and from_seconds(row["withdrawn_at"]),
        )
        for row in rows
    ]


def withdraw_token(conn: Connection, token_id: int, *, at: int) -> bool:
    changed = conn.execute(
        "UPDATE tokens SET withdrawn_at = ? WHERE id = ? AND withdrawn_at IS NULL", (at, token_id)
    )
    return changed.rowcount > 0
