"""Which run is whose turn, and who works on it: candidates, leases, being told to stop."""

from __future__ import annotations

from sqlite3 import Connection
from typing import NamedTuple

from phylax.core.protocol import Progress
from phylax.core.runs.runs import Run
from phylax.store.runs import steps
from phylax.store.runs.runs import RUN, as_run, run


class Candidate(NamedTuple):
    """An open run of a machine, as the choice of the next one sees it."""

    id: int
    state: str
    round_id: int | None
    due_at: int
    closes_at: int | None
    stretches: str | None
    takes: int
    at_hand: bool
    on_bench: bool
    on_lease: bool
    held_up: str | None


def candidates(conn: Connection, machine_id: int, *, at: int) -> list[Candidate]:
    """A machine's runs that are due, in the order in which they are offered: what was begun before
    what waits, then by time."""
    rows = conn.execute(
        """
        SELECT id, state, round_id, due_at, closes_at, stretches, expected_seconds, awaits_person,
               on_bench,
               coalesce(lease_until > :at, 0) AS on_lease, held_up
        FROM runs
        WHERE machine_id = :machine AND state IN ('waiting', 'offered', 'running')
          AND due_at <= :at AND stop_by IS NULL
        ORDER BY state = 'waiting', due_at, id
        """,
        {"machine": machine_id, "at": at},
    )
    return [Candidate(*row) for row in rows]


def working_at_client(conn: Connection, machine_id: int, *, at: int) -> tuple[int, int | None]:
    """How many machines of a machine's client are at work, and how many may be at once."""
    row = conn.execute(
        """
        SELECT c.at_once, c.id FROM machines m JOIN clients c ON c.id = m.client_id WHERE m.id = ?
        """,
        (machine_id,),
    ).fetchone()
    if row["at_once"] is None:
        return 0, None
    (working,) = conn.execute(
        """
        SELECT count(DISTINCT r.machine_id) FROM machines m
        JOIN runs r ON r.machine_id = m.id AND r.state IN ('waiting', 'offered', 'running')
             AND r.lease_until > :at
        WHERE m.client_id = :client AND m.id <> :machine
        """,
        {"client": row["id"], "machine": machine_id, "at": at},
    ).fetchone()
    return working, row["at_once"]


def note_held_up(conn: Connection, run_id: int, why: str) -> None:
    conn.execute("UPDATE runs SET held_up = ? WHERE id = ?", (why, run_id))


def lease(conn: Connection, run_id: int, lease: str, *, until: int) -> Run:
    """Lease a run out."""
    conn.execute(
        """
        UPDATE runs SET state = iif(state = 'running', 'running', 'offered'),
               lease = ?, lease_until = ? WHERE id = ?
        """,
        (lease, until, run_id),
    )
    current = run(conn, run_id)
    assert current is not None
    return current


def hold_lease(
    conn: Connection,
    machine_id: int,
    run_id: int,
    lease: str,
    progress: Progress,
    *,
    at: int,
    until: int,
) -> bool:
    """Note progress and extend the lease; False when the run is to stop or is not this lease's.

    An offer that was taken back is the machine's again where it has begun after all: it was off, or
    its agent was killed, before the first word of progress. A routine's steps were begun anew.
    """
    changed = conn.execute(
        """
        UPDATE runs SET state = 'running', started_at = coalesce(started_at, :at),
               lease_until = :until, progress = :progress
        WHERE id = :run AND machine_id = :machine AND lease = :lease
          AND (state IN ('offered', 'running')
               OR state = 'waiting' AND due_at <= :at AND routine_id IS NULL)
        """,
        {
            "at": at,
            "until": until,
            "progress": progress.model_dump_json(),
            "run": run_id,
            "machine": machine_id,
            "lease": lease,
        },
    )
    if not changed.rowcount:
        return False
    row = conn.execute("SELECT stop_by FROM runs WHERE id = ?", (run_id,)).fetchone()
    return row["stop_by"] is None


def ask_to_stop(conn: Connection, run_id: int, *, who: str) -> None:
    """The agent is told with its next progress, and says how far it came."""
    conn.execute("UPDATE runs SET stop_by = ? WHERE id = ?", (who, run_id))


def stop_asked_by(conn: Connection, run_id: int) -> str | None:
    row = conn.execute("SELECT stop_by FROM runs WHERE id = ?", (run_id,)).fetchone()
    return row[0] if row else None


def lapsed(conn: Connection, *, at: int) -> list[Run]:
    """Runs out on a lease that has run out."""
    rows = conn.execute(
        f"{RUN} WHERE r.state IN ('offered', 'running') AND r.lease_until < ?", (at,)
    )
    return [as_run(row) for row in rows]


def is_on_lease(conn: Connection, run_id: int, *, at: int) -> bool:
    """Whether an agent works on a run now."""
    row = conn.execute(
        "SELECT 1 FROM runs WHERE id = ? AND state IN ('offered', 'running') AND lease_until >= ?",
        (run_id, at),
    ).fetchone()
    return row is not None


def take_back(conn: Connection, run_id: int) -> None:
    """An offer nobody took up waits again. Its lease stays known: the machine may have begun."""
    steps.start_over(conn, run_id)
    conn.execute(
        """
        UPDATE runs SET state = 'waiting', lease_until = NULL WHERE id = ? AND state = 'offered'
        """,
        (run_id,),
    )
