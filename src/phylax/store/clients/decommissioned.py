"""Which machines and clients are retired, and what that touches."""

from __future__ import annotations

import json
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.core.ground.tally import Tally
from phylax.store.trends.readings import ask_outlooks_of


def retire_machine(
    conn: Connection, number: int, why: str, *, with_client: bool, who: str, at: int
) -> None:
    """Its agent may not call any more, its codes do not count, and what is open about it ends."""
    conn.execute(
        """
        UPDATE machines SET retired_at = :at, retired_why = :why, retired_with_client = :whole,
               needs_approval = NULL, version = version + 1, changed_by = :who, changed_at = :at
        WHERE id = :machine
        """,
        {"at": at, "why": why, "whole": int(with_client), "who": who, "machine": number},
    )
    # should its client be forgotten, its agent is told to forget
    conn.execute(
        """
        INSERT OR REPLACE INTO former_agents (key_hash, machine_id, left_at)
        SELECT key_hash, machine_id, ? FROM agents WHERE machine_id = ?
        """,
        (at, number),
    )
    conn.execute("DELETE FROM agents WHERE machine_id = ?", (number,))
    conn.execute("DELETE FROM enrolment_codes WHERE machine_id = ? AND used_at IS NULL", (number,))
    conn.execute("DELETE FROM round_machines WHERE machine_id = ?", (number,))
    conn.execute("DELETE FROM outlooks WHERE machine_id = ?", (number,))
    conn.execute(
        "UPDATE attention SET ended_at = ?, version = version + 1"
        " WHERE machine_id = ? AND ended_at IS NULL",
        (at, number),
    )


def bring_machine_back(conn: Connection, number: int, *, who: str, at: int) -> None:
    conn.execute(
        """
        UPDATE machines SET retired_at = NULL, retired_why = '', retired_with_client = 0,
               version = version + 1, changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (who, at, number),
    )
    ask_outlooks_of(conn, number)


def set_client(
    conn: Connection, number: int, retired_at: int | None, why: str, *, who: str, at: int
) -> None:
    conn.execute(
        """
        UPDATE clients SET retired_at = ?, retired_why = ?, version = version + 1,
               changed_by = ?, changed_at = ?
        WHERE id = ?
        """,
        (retired_at, why, who, at, number),
    )


def machines_of(conn: Connection, client_id: int, *, retired_with_it: bool) -> list[int]:
    """A client's machines that are in care, or those that were retired with it."""
    rows = conn.execute(
        """
        SELECT id FROM machines WHERE client_id = ?
          AND iif(?, retired_with_client, retired_at IS NULL) ORDER BY id
        """,
        (client_id, retired_with_it),
    )
    return [row[0] for row in rows]


def held_on(conn: Connection, machines: Sequence[int]) -> tuple[Tally, int | None]:
    """What is held on some machines, and when the last of it goes."""
    row = conn.execute(
        """
        SELECT coalesce(sum(h.held_count), 0), cast(total(h.held_size) AS INTEGER),
               max(h.expires_at)
        FROM json_each(?) wanted CROSS JOIN holds h ON h.machine_id = wanted.value
        WHERE h.held_count > 0
        """,
        (json.dumps(list(machines)),),
    ).fetchone()
    return Tally(count=row[0], size=row[1]), row[2]


def number_of(conn: Connection, table: str, condition: str, machines: Sequence[int]) -> int:
    """How many rows of a table about some machines meet a condition."""
    assert table in {"agents", "changes", "attention", "standing_consents"}
    row = conn.execute(
        f"""
        SELECT count(*) FROM json_each(?) wanted
        CROSS JOIN {table} t ON t.machine_id = wanted.value WHERE {condition}
        """,
        (json.dumps(list(machines)),),
    ).fetchone()
    return int(row[0])


def decisions_of(conn: Connection, machines: Sequence[int], client_id: int | None) -> int:
    """Rules and protect entries of some machines, and of a client."""
    whose = """
        (scope = 'machine' AND subject_id IN (SELECT value FROM json_each(:machines))
         OR scope = 'client' AND subject_id = :client)
    """
    row = conn.execute(
        f"""
        SELECT (SELECT count(*) FROM rules WHERE {whose})
             + (SELECT count(*) FROM protections WHERE {whose})
             + (SELECT count(*) FROM program_rules WHERE {whose})
             + (SELECT count(*) FROM setting_rules WHERE {whose})
        """,
        {"machines": json.dumps(list(machines)), "client": client_id},
    ).fetchone()
    return int(row[0])


def unfinished_runs(conn: Connection, machines: Sequence[int]) -> list[int]:
    """Runs on some machines that have not ended."""
    rows = conn.execute(
        """
        SELECT r.id FROM runs r
        WHERE r.state IN ('waiting', 'offered', 'running')
          AND r.machine_id IN (SELECT value FROM json_each(?)) ORDER BY r.id
        """,
        (json.dumps(list(machines)),),
    )
    return [row[0] for row in rows]
