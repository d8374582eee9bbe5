"""What there is of a client who is to be forgotten, and of one who was."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

from phylax.store.erasing.forgotten_file import Forgotten

_OURS = "machine_id IN (SELECT id FROM machines WHERE client_id = :client)"


class Counted(NamedTuple):
    """How much there is."""

    tags: tuple[str, ...]
    reports: int
    attachments: int
    held: int
    changes: int
    agents: int


def counted(conn: Connection, client_id: int) -> Counted:
    def number(question: str) -> int:
        return int(conn.execute(question, {"client": client_id}).fetchone()[0])

    tags = conn.execute("SELECT tag FROM machines WHERE client_id = ? ORDER BY tag", (client_id,))
    return Counted(
        tags=tuple(row[0] for row in tags),
        reports=number("SELECT count(*) FROM reports WHERE client_id = :client"),
        attachments=number(
            "SELECT count(*) FROM attachments WHERE entry IN"
            f" (SELECT id FROM records WHERE {_OURS})"
        ),
        held=number(f"SELECT coalesce(sum(held_count), 0) FROM holds WHERE {_OURS}"),
        changes=number(f"SELECT count(*) FROM changes WHERE state = 'made' AND {_OURS}"),
        agents=number(
            f"SELECT (SELECT count(*) FROM agents WHERE {_OURS})"
            f" + (SELECT count(DISTINCT machine_id) FROM former_agents WHERE {_OURS})"
        ),
    )


def machines_of(conn: Connection, client_id: int) -> list[int]:
    rows = conn.execute("SELECT id FROM machines WHERE client_id = ? ORDER BY id", (client_id,))
    return [row[0] for row in rows]


def numbered(conn: Connection, client_id: int) -> Forgotten:
    """A client without a name, as it is known outside the file."""
    shop = conn.execute("SELECT uid FROM shop").fetchone()[0]
    uid = conn.execute("SELECT uid FROM clients WHERE id = ?", (client_id,)).fetchone()[0]
    return Forgotten(shop, client_id, uid)


def is_there(conn: Connection, known: Forgotten) -> bool:
    """Whether one who was forgotten is in the file, with words."""
    row = conn.execute(
        """
        SELECT c.forgotten_at, EXISTS (
            SELECT 1 FROM forgettings f WHERE f.client_id = c.id AND f.state = 'done') AS ended
        FROM clients c, shop s WHERE s.uid = ? AND c.id = ? AND c.uid = ?
        """,
        known[:3],
    ).fetchone()
    return row is not None and not (row["forgotten_at"] and row["ended"])


def why_closed(conn: Connection, client_id: int) -> str:
    """Why nothing may be written of a client any more; empty: it may."""
    row = conn.execute(
        """
        SELECT c.forgotten_at, EXISTS (
            SELECT 1 FROM forgettings f
            WHERE f.client_id = c.id AND f.state <> 'done' AND f.state <> 'postponed') AS begun
        FROM clients c WHERE c.id = ?
        """,
        (client_id,),
    ).fetchone()
    if row is None or not (row["forgotten_at"] or row["begun"]):
        return ""
    return "their client is forgotten" if row["forgotten_at"] else "their client is being forgotten"


def is_of_forgotten(conn: Connection, key_hash: bytes) -> bool:
    """Whether an agent's machine was a client's who is being forgotten, or was."""
    row = conn.execute(
        """
        SELECT 1 FROM former_agents a JOIN machines m ON m.id = a.machine_id
        JOIN forgettings f ON f.client_id = m.client_id
        WHERE a.key_hash = ? AND f.state IN ('under way', 'done')
        """,
        (key_hash,),
    ).fetchone()
    return row is not None


def note_told(conn: Connection, key_hash: bytes, *, at: int) -> None:
    conn.execute("UPDATE former_agents SET told_at = ? WHERE key_hash = ?", (at, key_hash))
