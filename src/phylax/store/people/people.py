"""People, their sign-ins and the tokens of their programs. Secrets are kept only as hashes."""

from __future__ import annotations

import sqlite3
from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.ground.values import from_seconds
from phylax.core.people.accounts import CodesFor, Person, Role, SignedIn, Token, TokenScope


def _person(row: sqlite3.Row) -> Person:
    return Person(
        id=row["id"],
        login=row["login"],
        name=row["name"],
        role=Role(row["role"]),
        active=bool(row["active"]),
        left_at=None if row["left_at"] is None else from_seconds(row["left_at"]),
        forgotten_at=None if row["forgotten_at"] is None else from_seconds(row["forgotten_at"]),
        needs_code=row["codes_secret"] is not None,
        passkeys=row["passkeys"],
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
    return [_person(row) for row in conn.execute("SELECT * FROM people_with_keys ORDER BY name")]


def by_login(conn: Connection, login: str) -> tuple[Person, str] | None:
    """A person and their password hash."""
    row = conn.execute("SELECT * FROM people_with_keys WHERE login = ?", (login,)).fetchone()
    return (_person(row), row["password"]) if row else None


def by_id(conn: Connection, person_id: int) -> Person | None:
    row = conn.execute("SELECT * FROM people_with_keys WHERE id = ?", (person_id,)).fetchone()
    return _person(row) if row else None


def active_owners(conn: Connection) -> int:
    row = conn.execute("SELECT count(*) FROM people WHERE role = 'owner' AND active").fetchone()
    return int(row[0])


def set_password(conn: Connection, person_id: int, password: str) -> None:
    """A new hash; every open sign-in of the person ends."""
    conn.execute("UPDATE people SET password = ? WHERE id = ?", (password, person_id))
    conn.execute("DELETE FROM sessions WHERE person_id = ?", (person_id,))


def set_active(conn: Connection, person_id: int, active: bool, *, at: int) -> None:
    """Who may not sign in is out at once, with all programs; coming back opens nothing again."""
    conn.execute("UPDATE people SET active = ? WHERE id = ?", (int(active), person_id))
    if not active:
        end_everything(conn, person_id, at=at)


def set_left(conn: Connection, person_id: int, *, at: int) -> None:
    """For good: what they did stays theirs, the login stays taken."""
    set_active(conn, person_id, active=False, at=at)
    conn.execute("UPDATE people SET left_at = ?, codes_secret = NULL WHERE id = ?", (at, person_id))
    conn.execute(
        "UPDATE calendars SET withdrawn_at = ?"
        " WHERE about = 'person' AND subject_id = ? AND withdrawn_at IS NULL",
        (at, person_id),
    )
    conn.execute("DELETE FROM passkeys WHERE person_id = ?", (person_id,))


def set_back(conn: Connection, person_id: int) -> None:
    """They are of the shop again; a password they choose anew."""
    conn.execute(
        "UPDATE people SET left_at = NULL, active = 1, password = '' WHERE id = ?", (person_id,)
    )


def set_role(conn: Connection, person_id: int, role: Role) -> None:
    conn.execute("UPDATE people SET role = ? WHERE id = ?", (role, person_id))


def end_everything(conn: Connection, person_id: int, *, at: int) -> None:
    """Sign-ins, programs' tokens, links, and that browsers are known."""
    conn.execute("DELETE FROM sessions WHERE person_id = ?", (person_id,))
    conn.execute("DELETE FROM known_browsers WHERE person_id = ?", (person_id,))
    conn.execute("DELETE FROM one_time_links WHERE person_id = ?", (person_id,))
    conn.execute(
        "UPDATE tokens SET withdrawn_at = ? WHERE person_id = ? AND withdrawn_at IS NULL",
        (at, person_id),
    )


# --- a second step ---------------------------------------------------------------------------


def codes_secret(conn: Connection, person_id: int) -> str | None:
    """The secret of a person's codes, as it is kept."""
    row = conn.execute("SELECT codes_secret FROM people WHERE id = ?", (person_id,)).fetchone()
    kept: str | None = row["codes_secret"]
    return kept


def take_steps_off(conn: Connection, person_id: int) -> None:
    """Codes and passkeys: a person signs in by password alone."""
    set_codes(conn, person_id, None)
    conn.execute("DELETE FROM passkeys WHERE person_id = ?", (person_id,))


def set_codes(conn: Connection, person_id: int, secret: str | None) -> None:
    conn.execute(
        "UPDATE people SET codes_secret = ?, codes_step = 0 WHERE id = ?", (secret, person_id)
    )


def codes_for(conn: Connection) -> CodesFor:
    """Who has to sign in with a code as well."""
    row = conn.execute("SELECT codes_for FROM shop").fetchone()
    return CodesFor(row[0]) if row else CodesFor.NOBODY


def set_codes_for(conn: Connection, whom: CodesFor) -> None:
    conn.execute("UPDATE shop SET codes_for = ?", (whom,))


def use_code(conn: Connection, person_id: int, step: int) -> bool:
    """Note that a code was used; False where it, or a later one, was used before."""
    changed = conn.execute(
        "UPDATE people SET codes_step = ? WHERE id = ? AND codes_step < ?", (step, person_id, step)
    )
    return changed.rowcount == 1


# --- sign-ins --------------------------------------------------------------------------------


def begin_session(
    conn: Connection,
    hashed: bytes,
    person_id: int,
    *,
    at: int,
    until: int,
    address: str,
    browser: str,
    by_passkey: bool = False,
) -> None:
    conn.execute("DELETE FROM sessions WHERE expires_at < ?", (at,))
    conn.execute(
        """
        INSERT INTO sessions (hash, person_id, made_at, expires_at, seen_at, address, browser,
                              by_passkey)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (hashed, person_id, at, until, at, address, browser, by_passkey),
    )


def note_passkey_session(conn: Connection, hashed: bytes) -> None:
    """Whoever is signed in there has just used a passkey."""
    conn.execute("UPDATE sessions SET by_passkey = 1 WHERE hash = ?", (hashed,))


class SessionUse(NamedTuple):
    """What a sign-in that counts stands for."""

    person: Person
    seen_at: int
    """When it was last noted as used."""
    by_passkey: bool


def by_session(conn: Connection, hashed: bytes, *, at: int) -> SessionUse | None:
    row = conn.execute(
        """
        SELECT p.*, s.seen_at, s.by_passkey
        FROM sessions s JOIN people_with_keys p ON p.id = s.person_id
        WHERE s.hash = ? AND s.expires_at > ? AND p.active
        """,
        (hashed, at),
    ).fetchone()
    return SessionUse(_person(row), row["seen_at"], bool(row["by_passkey"])) if row else None


def note_session(conn: Connection, hashed: bytes, *, at: int) -> None:
    conn.execute("UPDATE sessions SET seen_at = ? WHERE hash = ?", (at, hashed))


def sessions(conn: Connection, person_id: int, this: bytes | None, *, at: int) -> list[SignedIn]:
    """The open sign-ins of a person, the newest first; `this` is the hash of the one that asks."""
    rows = conn.execute(
        "SELECT * FROM sessions WHERE person_id = ? AND expires_at > ? ORDER BY id DESC",
        (person_id, at),
    )
    return [
        SignedIn(
            id=row["id"],
            since=from_seconds(row["made_at"]),
            seen_at=from_seconds(row["seen_at"]),
            until=from_seconds(row["expires_at"]),
            address=row["address"],
            browser=row["browser"],
            is_this=row["hash"] == this,
        )
        for row in rows
    ]


def end_session(conn: Connection, hashed: bytes) -> None:
    conn.execute("DELETE FROM sessions WHERE hash = ?", (hashed,))


def end_session_of(conn: Connection, person_id: int, session_id: int) -> bool:
    ended = conn.execute(
        "DELETE FROM sessions WHERE id = ? AND person_id = ?", (session_id, person_id)
    )
    return ended.rowcount == 1


# --- browsers that are known -----------------------------------------------------------------

_MOST_BROWSERS = 50
_BROWSER_SECONDS = 400 * 86400


def know_browser(conn: Connection, hashed: bytes, person_id: int, *, at: int) -> None:
    """A person signed in with it."""
    conn.execute(
        """
        INSERT INTO known_browsers VALUES (?, ?, ?)
        ON CONFLICT (hash) DO UPDATE SET person_id = excluded.person_id, last_at = excluded.last_at
        """,
        (hashed, person_id, at),
    )
    conn.execute(
        """
        DELETE FROM known_browsers WHERE person_id = :person AND (last_at < :oldest OR hash NOT IN (
            SELECT hash FROM known_browsers WHERE person_id = :person
            ORDER BY last_at DESC LIMIT :most))
        """,
        {"person": person_id, "oldest": at - _BROWSER_SECONDS, "most": _MOST_BROWSERS},
    )


def is_browser_of(conn: Connection, hashed: bytes, login: str) -> bool:
    row = conn.execute(
        """
        SELECT 1 FROM known_browsers b JOIN people p ON p.id = b.person_id
        WHERE b.hash = ? AND p.login = ? AND p.active
        """,
        (hashed, login),
    ).fetchone()
    return row is not None


# --- one-time links --------------------------------------------------------------------------


def make_link(
    conn: Connection, hashed: bytes, person_id: int, by: str, *, at: int, until: int
) -> None:
    """The one link of a person that counts; one that was made before does not any more."""
    conn.execute(
        "DELETE FROM one_time_links WHERE person_id = ? OR expires_at < ?", (person_id, at)
    )
    conn.execute(
        "INSERT INTO one_time_links VALUES (?, ?, ?, ?, ?)", (hashed, person_id, by, at, until)
    )


def by_link(conn: Connection, hashed: bytes, *, at: int) -> Person | None:
    row = conn.execute(
        """
        SELECT p.* FROM one_time_links l JOIN people_with_keys p ON p.id = l.person_id
        WHERE l.hash = ? AND l.expires_at > ? AND p.left_at IS NULL
        """,
        (hashed, at),
    ).fetchone()
    return _person(row) if row else None


def use_link(conn: Connection, hashed: bytes) -> bool:
    """False where it was used already."""
    return conn.execute("DELETE FROM one_time_links WHERE hash = ?", (hashed,)).rowcount == 1


# --- tokens ----------------------------------------------------------------------------------


def add_token(
    conn: Connection,
    hashed: bytes,
    person_id: int,
    name: str,
    scope: TokenScope,
    *,
    at: int,
    until: int | None,
) -> int:
    cursor = conn.execute(
        """
        INSERT INTO tokens (hash, person_id, name, made_at, scope, expires_at)
        VALUES (?, ?, ?, ?, ?, ?)
        """,
        (hashed, person_id, name, at, scope, until),
    )
    return int(cursor.lastrowid or 0)


class TokenUse(NamedTuple):
    """What a token that counts stands for."""

    person: Person
    token_id: int
    scope: TokenScope
    used_at: int
    """When it was last noted as used; 0: never."""
    expires: bool


def by_token(conn: Connection, hashed: bytes, *, at: int) -> TokenUse | None:
    row = conn.execute(
        """
        SELECT p.*, t.id AS token_id, t.scope, t.used_at, t.expires_at
        FROM tokens t JOIN people_with_keys p ON p.id = t.person_id
        WHERE t.hash = ? AND t.withdrawn_at IS NULL AND p.active
        AND (t.expires_at IS NULL OR t.expires_at > ?)
        """,
        (hashed, at),
    ).fetchone()
    if row is None:
        return None
    return TokenUse(
        person=_person(row),
        token_id=row["token_id"],
        scope=TokenScope(row["scope"]),
        used_at=row["used_at"] or 0,
        expires=row["expires_at"] is not None,
    )


def note_token(conn: Connection, token_id: int, *, at: int, until: int | None) -> None:
    """It was used; `until` is when it expires from now on, None where that stays."""
    conn.execute(
        "UPDATE tokens SET used_at = ?, expires_at = coalesce(?, expires_at) WHERE id = ?",
        (at, until, token_id),
    )


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
            scope=TokenScope(row["scope"]),
            made_at=from_seconds(row["made_at"]),
            used_at=row["used_at"] and from_seconds(row["used_at"]),
            expires_at=row["expires_at"] and from_seconds(row["expires_at"]),
            withdrawn_at=row["withdrawn_at"] and from_seconds(row["withdrawn_at"]),
        )
        for row in rows
    ]


def withdraw_token(conn: Connection, token_id: int, *, at: int) -> bool:
    changed = conn.execute(
        "UPDATE tokens SET withdrawn_at = ? WHERE id = ? AND withdrawn_at IS NULL", (at, token_id)
    )
    return changed.rowcount > 0
