"""Names that were kept long enough: of files, in mails, of people who left."""

from __future__ import annotations

import json
from collections.abc import Sequence
from sqlite3 import Connection

from phylax.store.erasing import data_retention, pages
from phylax.store.erasing.rows import unname_file
from phylax.store.erasing.slices import in_slices, values
from phylax.store.erasing.staff import forget_person
from phylax.store.file.database import Database

_WAITS_FOR_READERS = 5.0


def sweep_spans(database: Database, *, at: int) -> bool:
    """Take away what was kept for its span; whether there was anything."""
    with database.read() as conn:
        plan, since = data_retention.keeping(conn), data_retention.files_until(conn)
        files = data_retention.before(plan.file_names_months, at)
        notices = data_retention.before(plan.notices_months, at)
        left = None if plan.staff_months is None else data_retention.before(plan.staff_months, at)
    went = _file_names(database, since, files)
    went += _notices(database, notices)
    if left is not None:
        for person in _left_before(database, left):
            went += forget_person(database, person, at=at)
    if went:
        pages.merge_indexes(database)
        pages.fold_log(database, seconds=_WAITS_FOR_READERS)
    with database.write() as conn:
        data_retention.note_swept(conn, files_until=files, at=at)
    return went > 0


def _file_names(database: Database, since: int, until: int) -> int:
    """Of files that went or were left in runs that ended in a span; what is held has no fate yet,
    and keeps its name."""
    span = {"since": since, "until": until}
    with database.read() as conn:
        named = values(
            conn.execute(
                """
                SELECT n.id, n.hold_id, n.number FROM held_items h
                CROSS JOIN named_files n ON n.hold_id = h.hold_id AND n.number = h.number
                WHERE h.status_at >= :since AND h.status_at < :until
                UNION ALL
                SELECT n.id, n.hold_id, n.number FROM runs r
                CROSS JOIN named_files n ON n.run_id = r.id
                WHERE r.ended_at >= :since AND r.ended_at < :until
                """,
                span,
            )
        )
        runs = values(
            conn.execute(
                """
                SELECT id FROM runs WHERE ended_at >= :since AND ended_at < :until
                  AND json_array_length(result, '$.left') > 0
                """,
                span,
            )
        )
        surveys = values(
            conn.execute(
                "SELECT id FROM surveys WHERE ended_at >= :since AND ended_at < :until", span
            )
        )
        listed = values(
            conn.execute(
                """
                SELECT i.survey_id, i.category, i.number FROM surveys s
                JOIN survey_items i ON i.survey_id = s.id
                WHERE s.ended_at >= :since AND s.ended_at < :until
                """,
                span,
            )
        )
    in_slices(database, named, _unname)
    in_slices(
        database, runs,
        lambda conn, some: conn.executemany(
            "UPDATE runs SET result = json_set(result, '$.left', json('[]')) WHERE id = ?", some
        ),
    )  # fmt: skip
    in_slices(
        database, listed,
        lambda conn, some: conn.executemany(
            "DELETE FROM survey_items WHERE survey_id = ? AND category = ? AND number = ?", some
        ),
    )  # fmt: skip
    in_slices(database, surveys, _without_largest)
    return len(named) + len(runs) + len(listed) + len(surveys)


def _without_largest(conn: Connection, rows: Sequence[tuple[object, ...]]) -> None:
    """What a survey shows of single files."""
    for (number,) in rows:
        lines = json.loads(
            conn.execute("SELECT lines FROM surveys WHERE id = ?", (number,)).fetchone()[0]
        )
        for line in lines:
            line["largest"] = []
        conn.execute("UPDATE surveys SET lines = ? WHERE id = ?", (json.dumps(lines), number))
        conn.execute("DELETE FROM survey_parts WHERE survey_id = ?", (number,))


def _unname(conn: Connection, rows: Sequence[tuple[object, ...]]) -> None:
    for number, hold, item in rows:
        unname_file(conn, number)
        conn.execute(
            "UPDATE held_items SET path = '', place = '' WHERE hold_id = ? AND number = ?",
            (hold, item),
        )


def _notices(database: Database, before: int) -> int:
    with database.read() as conn:
        old = values(
            conn.execute(
                "SELECT id FROM notices WHERE made_at < ? AND state <> 'waiting'", (before,)
            )
        )

    def act(conn: Connection, some: Sequence[tuple[object, ...]]) -> None:
        conn.executemany("DELETE FROM notice_attention WHERE notice_id = ?", some)
        conn.executemany("DELETE FROM notices WHERE id = ?", some)

    in_slices(database, old, act)
    return len(old)


def _left_before(database: Database, before: int) -> list[int]:
    with database.read() as conn:
        rows = conn.execute(
            "SELECT id FROM people WHERE left_at < ? AND forgotten_at IS NULL", (before,)
        )
        return [row[0] for row in rows]
