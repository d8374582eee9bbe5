"""What the last surveys know of each category, for what-if: read without opening any survey."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from sqlite3 import Connection

from phylax.core.ground.values import to_seconds
from phylax.core.survey import Survey, SurveyLine
from phylax.core.survey.what_if import Profile, unpacked

PackedLine = tuple[SurveyLine, bytes, bytes]
"""A survey's line, its ages and its single items as they are kept."""


def replace(conn: Connection, survey: Survey, lines: Iterable[PackedLine]) -> None:
    """The machine's profiles are now those of this survey."""
    begun = survey.started_at
    conn.execute("DELETE FROM profiles WHERE machine_id = ?", (survey.machine_id,))
    conn.executemany(
        "INSERT OR REPLACE INTO profiles VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                line.category, survey.machine_id, line.mount, to_seconds(line.surveyed_at or begun),
                line.capacity, line.free, line.rule.only_larger, ages, items, line.people,
            )
            for line, ages, items in lines
        ],
    )  # fmt: skip


def of_category(conn: Connection, category: str) -> Iterator[Profile]:
    """Every machine's profiles of a category."""
    rows = conn.execute(
        """
        SELECT machine_id, surveyed_at, capacity, free, larger, ages, ranked, people FROM profiles
        WHERE category = ?
        """,
        (category,),
    )
    for row in rows:
        yield unpacked(*row)
