"""Agents: enrolment codes, keys, and the messages already applied."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.ground.machines import MachineFacts

_CLOCK_TO_WITHIN = 60
MESSAGES_KEPT = 30 * 86400
"""A message is applied once if it is repeated within this many seconds."""


def add_code(
    conn: Connection, hashed: bytes, machine_id: int, *, who: str, at: int, until: int
) -> None:
    """A new one-time code; earlier unused ones of the machine no longer count."""
    conn.execute(
        "DELETE FROM enrolment_codes WHERE (machine_id = ? AND used_at IS NULL) OR expires_at < ?",
        (machine_id, at),
    )
    conn.execute(
        "INSERT INTO enrolment_codes VALUES (?, ?, ?, ?, ?, NULL)",
        (hashed, machine_id, who, at, until),
    )


def use_code(conn: Connection, hashed: bytes, *, at: int) -> int | None:
    """The machine a code is for, if it is unused and in time; it cannot be used again."""
    row = conn.execute(
        """
        UPDATE enrolment_codes SET used_at = :at
        WHERE hash = :hash AND used_at IS NULL AND expires_at > :at
        RETURNING machine_id
        """,
        {"at": at, "hash": hashed},
    ).fetchone()
    return row[0] if row else None


def enrol(
    conn: Connection, machine_id: int, key_hash: bytes, facts: MachineFacts, *, at: int
) -> None:
    """Give a machine its agent; an earlier agent's key no longer counts."""
    conn.execute(
        "INSERT OR REPLACE INTO agents VALUES (?, ?, ?, ?, ?, ?)",
        (machine_id, key_hash, facts.kind, facts.host, facts.agent_version, at),
    )
    conn.execute("UPDATE machines SET seen_at = ? WHERE id = ?", (at, machine_id))


def machine_of_key(conn: Connection, key_hash: bytes) -> int | None:
    row = conn.execute("SELECT machine_id FROM agents WHERE key_hash = ?", (key_hash,)).fetchone()
    return row[0] if row else None


def withdraw(conn: Connection, machine_id: int) -> bool:
    return conn.execute("DELETE FROM agents WHERE machine_id = ?", (machine_id,)).rowcount > 0


def seen(conn: Connection, machine_id: int, *, at: int) -> None:
    conn.execute("UPDATE machines SET seen_at = ? WHERE id = ?", (at, machine_id))


def seen_at(conn: Connection, machine_id: int) -> int:
    """When a machine was last heard of, to within the minute; 0 for never."""
    row = conn.execute("SELECT seen_at FROM machines WHERE id = ?", (machine_id,)).fetchone()
    return (row[0] if row else None) or 0


def clock_off(conn: Connection, machine_id: int) -> int:
    """Seconds by which a machine's clock is known to be ahead."""
    row = conn.execute("SELECT clock_off FROM machines WHERE id = ?", (machine_id,)).fetchone()
    return int(row[0])


def note_clock(conn: Connection, machine_id: int, off: int, *, at: int) -> None:
    """By how much a machine's clock is ahead; written where it is another than was known."""
    if abs(off - clock_off(conn, machine_id)) > _CLOCK_TO_WITHIN or not off:
        conn.execute(
            """
            UPDATE machines SET clock_off = :off,
                   clock_off_since = iif(:off = 0, NULL, coalesce(clock_off_since, :at))
            WHERE id = :id AND clock_off <> :off
            """,
            {"off": off, "at": at, "id": machine_id},
        )


def note_clock_doubt(conn: Connection, machine_id: int, why: str, *, at: int) -> None:
    """Why an agent does not trust its machine's clock; empty: it does."""
    conn.execute(
        """
        UPDATE machines SET clock_doubt = :why,
               clock_doubt_since = iif(:why = '', NULL, coalesce(clock_doubt_since, :at))
        WHERE id = :id AND clock_doubt <> :why
        """,
        {"why": why, "at": at, "id": machine_id},
    )


def note_version(conn: Connection, machine_id: int, version: str) -> None:
    """The agent's version, as it says with each report."""
    conn.execute(
        "UPDATE agents SET version = ? WHERE machine_id = ? AND version <> ?",
        (version, machine_id, version),
    )


def first_time(conn: Connection, machine_id: int, message_id: str, *, at: int) -> bool:
    """Note a message; False when it was applied before."""
    added = conn.execute(
        "INSERT OR IGNORE INTO messages VALUES (?, ?, ?)", (machine_id, message_id, at)
    )
    return added.rowcount > 0


def is_known(conn: Connection, machine_id: int, message_id: str) -> bool:
    """Whether a message was applied before."""
    row = conn.execute(
        "SELECT 1 FROM messages WHERE machine_id = ? AND message_id = ?",
        (machine_id, message_id),
    ).fetchone()
    return row is not None


def forget_old_messages(conn: Connection, *, at: int) -> None:
    conn.execute("DELETE FROM messages WHERE at < ?", (at - MESSAGES_KEPT,))
