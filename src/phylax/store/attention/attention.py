"""What needs a person: how it began, how it is handled, how it ended."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from sqlite3 import Connection

from phylax.core.attention import Attention, Cause, Finding, Handling, Keep, KeptFinding, is_worse
from phylax.core.attention.keeping import FLAPS, SAME_WITHIN
from phylax.core.ground.values import from_seconds, to_seconds

ENDED_KEPT = 400 * 86400
_SEEN_TO_WITHIN = 3600


def kept(conn: Connection, machine_ids: Iterable[int], *, at: int) -> dict[int, list[KeptFinding]]:
    """What is open on some machines, or ended not long ago, by machine."""
    kept_by_machine: dict[int, list[KeptFinding]] = {}
    rows = conn.execute(
        """
        SELECT a.machine_id, a.id, a.cause, a.subject, a.grade, a.last_seen, a.occurrences,
               a.ended_at,
               a.handled_grade, a.finding
        FROM json_each(:wanted) wanted
        CROSS JOIN attention a ON a.machine_id = wanted.value
        WHERE a.ended_at IS NULL
        UNION ALL
        SELECT a.machine_id, a.id, a.cause, a.subject, a.grade, a.last_seen, a.occurrences,
               a.ended_at,
               a.handled_grade, a.finding
        FROM json_each(:wanted) wanted
        CROSS JOIN attention a ON a.machine_id = wanted.value AND a.ended_at > :recent
        """,
        {"wanted": json.dumps(list(machine_ids)), "recent": at - SAME_WITHIN},
    )
    for machine_id, number, cause, *rest in rows:
        kept_by_machine.setdefault(machine_id, []).append(KeptFinding(number, Cause(cause), *rest))
    return kept_by_machine


def changes(todo: Keep, *, at: int) -> bool:
    """Whether there is anything to be written down."""
    return bool(todo.begin or todo.again or todo.end) or any(
        _is_news(before, finding) or at - before.last_seen >= _SEEN_TO_WITHIN
        for before, finding in todo.still
    )


def carry_out(conn: Connection, todo: Keep, *, at: int) -> bool:
    """Begin, go on and end; whether anything changed that somebody might see."""
    for finding in todo.begin:
        _begin(conn, finding, at)
    for before, finding in todo.again:
        conn.execute(
            "UPDATE attention SET ended_at = NULL, occurrences = occurrences + 1 WHERE id = ?",
            (before.id,),
        )
        _go_on(conn, before, finding, at)
    for before, finding in todo.still:
        _go_on(conn, before, finding, at)
    for gone in todo.end:
        conn.execute(
            "UPDATE attention SET ended_at = ?, version = version + 1 WHERE id = ?", (at, gone.id)
        )
    return bool(todo.begin or todo.again or todo.end) or any(
        _is_news(before, finding) for before, finding in todo.still
    )


def _is_news(before: KeptFinding, finding: Finding) -> bool:
    return before.text != _text(finding) or is_worse(
        finding.cause, before.handled_grade, finding.grade
    )


def _text(finding: Finding) -> str:
    return finding.model_dump_json(exclude={"since", "machine_tag", "client_id", "client_name"})


def _begin(conn: Connection, finding: Finding, at: int) -> None:
    since = to_seconds(finding.since) if finding.since else at
    conn.execute(
        """
        INSERT INTO attention
            (machine_id, cause, subject, finding, urgency, grade, since, began_at, last_seen)
        VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
        """,
        (
            finding.machine_id, finding.cause, finding.subject, _text(finding), finding.urgency,
            finding.grade, since, at, at,
        ),
    )  # fmt: skip


def _go_on(conn: Connection, before: KeptFinding, finding: Finding, at: int) -> None:
    """It is still there; what was handled comes back when it got worse."""
    comes_back = is_worse(finding.cause, before.handled_grade, finding.grade)
    conn.execute(
        """
        UPDATE attention SET finding = ?, urgency = ?, grade = ?, last_seen = ? WHERE id = ?
        """,
        (_text(finding), finding.urgency, finding.grade, at, before.id),
    )
    if comes_back:
        conn.execute(
            """
            UPDATE attention SET settled_at = NULL, snoozed_until = NULL, handled_grade = NULL,
                   version = version + 1
            WHERE id = ?
            """,
            (before.id,),
        )


_ROW = """
    SELECT a.*, m.tag, m.client_id, c.name AS client_name
    FROM attention a JOIN machines m ON m.id = a.machine_id JOIN clients c ON c.id = m.client_id
"""


def _attention(row: sqlite3.Row, at: int) -> Attention:
    handling = Handling.OPEN
    if row["settled_at"] is not None:
        handling = Handling.SETTLED
    elif row["snoozed_until"] is not None and row["snoozed_until"] > at:
        handling = Handling.PUT_OFF
    elif row["taken_by"]:
        handling = Handling.TAKEN
    return Attention.model_validate(
        json.loads(row["finding"])
        | {
            "id": row["id"],
            "machine_tag": row["tag"],
            "client_id": row["client_id"],
            "client_name": row["client_name"],
            "since": from_seconds(row["since"]),
            "handling": handling,
            "taken_by": row["taken_by"],
            "snoozed_until": row["snoozed_until"] and from_seconds(row["snoozed_until"]),
            "handled_by": row["handled_by"],
            "comment": row["comment"],
            "comes_and_goes": row["occurrences"] >= FLAPS,
            "version": row["version"],
        }
    )


def all_open(conn: Connection, *, at: int, machine_id: int | None = None) -> list[Attention]:
    """Everything that is open, most urgent first, handled or not."""
    rows = conn.execute(
        f"""
        {_ROW} WHERE a.ended_at IS NULL AND (:machine IS NULL OR a.machine_id = :machine)
        ORDER BY a.urgency DESC, a.id
        """,
        {"machine": machine_id},
    )
    return [_attention(row, at) for row in rows]


def one(conn: Connection, attention_id: int, *, at: int) -> Attention | None:
    row = conn.execute(f"{_ROW} WHERE a.id = ? AND a.ended_at IS NULL", (attention_id,)).fetchone()
    return _attention(row, at) if row else None


def handle(
    conn: Connection,
    attention_id: int,
    handling: Handling,
    *,
    who: str,
    at: int,
    until: int | None = None,
    word: str = "",
) -> None:
    """A person takes it on, puts it off, settles it, or gives it back."""
    conn.execute(
        """
        UPDATE attention SET
            taken_by = CASE :handling WHEN 'taken on' THEN :who WHEN 'open' THEN ''
                       ELSE taken_by END,
            taken_at = CASE :handling WHEN 'taken on' THEN :at WHEN 'open' THEN NULL
                       ELSE taken_at END,
            snoozed_until = :until,
            settled_at = iif(:handling = 'settled', :at, NULL),
            handled_grade = iif(:handling IN ('settled', 'put off'), grade, NULL),
            handled_by = :who, comment = :comment, version = version + 1
        WHERE id = :id
        """,
        {
            "id": attention_id, "handling": handling, "who": who, "at": at, "until": until,
            "comment": word,
        },
    )  # fmt: skip


def forget_old(conn: Connection, *, at: int) -> None:
    conn.execute("DELETE FROM attention WHERE ended_at < ?", (at - ENDED_KEPT,))


# --- how far the watch is --------------------------------------------------------------------


def watched(conn: Connection) -> tuple[int, int]:
    """Up to which event machines were looked at, and when all of them were."""
    row = conn.execute("SELECT watched_event, watched_at FROM shop").fetchone()
    return (row[0], row[1]) if row else (0, 0)


def note_watched(conn: Connection, event: int, whole_at: int | None) -> None:
    conn.execute(
        "UPDATE shop SET watched_event = ?, watched_at = coalesce(?, watched_at)",
        (event, whole_at),
    )


def machines_since(conn: Connection, event: int) -> tuple[int, set[int]] | None:
    """(newest event, machines that something happened to); None where too much was forgotten.

    Readings alone do not count: where they change what can be said, its outlook is made anew.
    """
    # one step from either end each; both in one aggregate would walk the whole table
    newest, oldest = conn.execute(
        "SELECT (SELECT max(id) FROM events), (SELECT min(id) FROM events)"
    ).fetchone()
    if newest is None:
        return event, set()
    if oldest > event + 1:
        return None
    rows = conn.execute(
        "SELECT DISTINCT machine_id FROM events"
        " WHERE id > ? AND kind NOT IN ('attention', 'reading')",
        (event,),
    )
    return newest, {row[0] for row in rows if row[0] is not None}
