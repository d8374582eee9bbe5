"""Surveys and the listings that are kept with them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable
from sqlite3 import Connection

from pydantic import TypeAdapter

from phylax.core.ground.tally import Tally
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.survey import (
    FolderSum,
    Item,
    ListedItem,
    ListingOrder,
    Survey,
    SurveyKind,
    SurveyLine,
)
from phylax.core.survey.conditions import Conditions

_LINES = TypeAdapter(tuple[SurveyLine, ...])


def begun(conn: Connection, machine_id: int, run_id: int, look: SurveyKind, *, at: int) -> int:
    """The number of a run's survey, made when its first part arrives."""
    row = conn.execute(
        """
        INSERT INTO surveys (machine_id, run_id, kind, started_at) VALUES (?, ?, ?, ?)
        ON CONFLICT (run_id, kind) DO UPDATE SET kind = kind
        RETURNING id
        """,
        (machine_id, run_id, look, at),
    ).fetchone()
    return int(row[0])


def lines_as_json(lines: tuple[SurveyLine, ...]) -> str:
    """As they are kept."""
    return _LINES.dump_json(lines).decode()


def finish(
    conn: Connection,
    survey_id: int,
    lines_json: str,
    conditions: Conditions | None,
    *,
    started: int,
    ended: int,
) -> None:
    """The survey is whole."""
    conn.execute("DELETE FROM survey_parts WHERE survey_id = ?", (survey_id,))
    conn.execute(
        "UPDATE surveys SET lines = ?, conditions = ?, started_at = ?, ended_at = ? WHERE id = ?",
        (lines_json, conditions and conditions.model_dump_json(), started, ended, survey_id),
    )


def conditions(conn: Connection, survey_id: int) -> Conditions | None:
    """Under what a machine was looked at; None where that was not told."""
    row = conn.execute("SELECT conditions FROM surveys WHERE id = ?", (survey_id,)).fetchone()
    return Conditions.model_validate_json(row[0]) if row and row[0] else None


def add_part(conn: Connection, survey_id: int, lines: tuple[SurveyLine, ...]) -> None:
    """Lines of a survey that goes on; nothing where it has ended meanwhile."""
    conn.executemany(
        """
        INSERT OR REPLACE INTO survey_parts
        SELECT id, ?, ?, ? FROM surveys WHERE id = ? AND ended_at IS NULL
        """,
        [(line.category, line.mount, line.model_dump_json(), survey_id) for line in lines],
    )


def becomes_newest(conn: Connection, survey: Survey, can_go: Tally, waits: Tally) -> bool:
    """The machine now stands as this survey says; False: a newer one was there first."""
    cursor = conn.execute(
        """
        UPDATE machines SET survey_id = :id, surveyed_at = :at,
               removable = :removable, needs_approval = :waits
        WHERE id = :machine AND coalesce(survey_id, 0) <= :id
        """,
        {
            "id": survey.id,
            "at": to_seconds(survey.ended_at or survey.started_at),
            "removable": can_go.model_dump_json(),
            "waits": waits.model_dump_json(),
            "machine": survey.machine_id,
        },
    )
    return cursor.rowcount > 0


def forget_listings(conn: Connection, machine_id: int, *, before: int) -> None:
    """Listings too old to be agreed to are let go, but for those that somebody agreed to.

    Looks at the newest twenty of the old surveys: those before them were dealt with then.
    """
    conn.execute(
        """
        DELETE FROM survey_items WHERE survey_id IN (
            SELECT id FROM surveys WHERE machine_id = ? AND ended_at < ? ORDER BY id DESC LIMIT 20)
          AND NOT EXISTS (
            SELECT 1 FROM consents c
            WHERE c.survey_id = survey_items.survey_id AND c.category = survey_items.category)
        """,
        (machine_id, before),
    )


def machines_that_wait(conn: Connection) -> list[int]:
    """Machines of which a listing needs approval."""
    rows = conn.execute(
        "SELECT id FROM machines WHERE json_extract(needs_approval, '$.count') > 0 ORDER BY id"
    )
    return [row[0] for row in rows]


def no_longer_waits(conn: Connection, machine_id: int) -> None:
    """The listing that waited was decided on."""
    conn.execute("UPDATE machines SET needs_approval = NULL WHERE id = ?", (machine_id,))


def _survey(row: sqlite3.Row) -> Survey:
    return Survey(
        id=row["id"],
        machine_id=row["machine_id"],
        run_id=row["run_id"],
        kind=SurveyKind(row["kind"]),
        started_at=from_seconds(row["started_at"]),
        ended_at=None if row["ended_at"] is None else from_seconds(row["ended_at"]),
        lines=_LINES.validate_json(row["lines"]),
    )


def survey(conn: Connection, survey_id: int) -> Survey | None:
    row = conn.execute("SELECT * FROM surveys WHERE id = ?", (survey_id,)).fetchone()
    if row is None:
        return None
    current = _survey(row)
    if current.ended_at is not None:
        return current
    parts = conn.execute("SELECT line FROM survey_parts WHERE survey_id = ?", (survey_id,))
    lines = tuple(SurveyLine.model_validate_json(part[0]) for part in parts)
    return current.model_copy(update={"lines": lines})


def newest(conn: Connection, machine_id: int) -> Survey | None:
    """The newest whole survey of a machine."""
    row = conn.execute(
        "SELECT s.* FROM machines m JOIN surveys s ON s.id = m.survey_id WHERE m.id = ?",
        (machine_id,),
    ).fetchone()
    return _survey(row) if row else None


def newest_id(conn: Connection, machine_id: int) -> int | None:
    """The number of the newest whole survey of a machine."""
    row = conn.execute("SELECT survey_id FROM machines WHERE id = ?", (machine_id,)).fetchone()
    return row[0] if row else None


def of_machine(conn: Connection, machine_id: int, *, before: int, limit: int) -> list[Survey]:
    """Whole surveys of a machine, newest first, before a number."""
    rows = conn.execute(
        """
        SELECT * FROM surveys WHERE machine_id = ? AND id < ? AND ended_at IS NOT NULL
        ORDER BY id DESC LIMIT ?
        """,
        (machine_id, before, limit),
    )
    return [_survey(row) for row in rows]


# --- listings --------------------------------------------------------------------------------


def add_items(
    conn: Connection, survey_id: int, category: str, first_number: int, items: Iterable[Item]
) -> None:
    """A page of a listing; a repeated page changes nothing."""
    conn.executemany(
        "INSERT OR IGNORE INTO survey_items VALUES (?, ?, ?, ?, ?, ?)",
        [
            (survey_id, category, number, item.size, int(item.reason is None), _compact(item))
            for number, item in enumerate(items, first_number)
        ],
    )


_ON = "json_extract(item, '$.mount') IN (SELECT value FROM json_each(:mounts))"


def may_carry(conn: Connection, survey_id: int, mounts: Collection[str], *, at_most: int) -> bool:
    """Whether a survey's listings may be carried over as far as they are of some volumes: not more
    than `at_most` items, of all of which it is known where they lie."""
    which = {"survey": survey_id, "mounts": json.dumps(sorted(mounts)), "limit": at_most + 1}
    (count,) = conn.execute(
        f"""
        SELECT count(*) FROM (
            SELECT 1 FROM survey_items WHERE survey_id = :survey AND {_ON} LIMIT :limit)
        """,
        which,
    ).fetchone()
    (unplaced,) = conn.execute(
        """
        SELECT EXISTS (SELECT 1 FROM survey_items WHERE survey_id = ?
                       AND coalesce(json_extract(item, '$.mount'), '') = '')
        """,
        (survey_id,),
    ).fetchone()
    return count <= at_most and not unplaced


def carry_items(conn: Connection, before_id: int, survey_id: int, mounts: Collection[str]) -> None:
    """What an earlier survey's listings have on some volumes is in a later one's as well, some way
    behind its own: an agent that was cut off may look again, and list a few more."""
    conn.execute(
        f"""
        INSERT INTO survey_items (survey_id, category, number, size, proposed, item)
        SELECT :survey, i.category,
               row_number() OVER (PARTITION BY i.category ORDER BY i.number) + 1000 * (2 + coalesce(
                   (SELECT max(o.number) FROM survey_items o
                    WHERE o.survey_id = :survey AND o.category = i.category), 0) / 1000),
               i.size, i.proposed, i.item
        FROM survey_items i WHERE i.survey_id = :before AND {_ON}
        """,
        {"before": before_id, "survey": survey_id, "mounts": json.dumps(sorted(mounts))},
    )


def _compact(item: Item) -> str:
    return item.model_dump_json(exclude_none=True)


def _listed(row: sqlite3.Row) -> ListedItem:
    item = Item.model_validate_json(row["item"])
    return ListedItem(number=row["number"], **{n: getattr(item, n) for n in Item.model_fields})


_INSIDE = """AND json_extract(item, '$.place') = :place
    AND substr(json_extract(item, '$.path'), 1, length(:folder)) = :folder"""


def items(
    conn: Connection,
    survey_id: int,
    category: str,
    *,
    after: int,
    limit: int,
    largest_first: bool = False,
    place: str | None = None,
    folder: str = "",
) -> list[ListedItem]:
    """A page of a listing after a numbered item: in its order, or largest first.

    Only what lies below a place's folder, where a place is given.
    """
    which = {
        "survey": survey_id, "category": category, "after": after, "limit": limit,
        "place": place, "folder": f"{folder}/" if folder else "",
    }  # fmt: skip
    order, cursor = "number", "number > :after"
    if largest_first:
        order = "size DESC, number"
        cursor = """(:after = 0 OR (-size, number) > (
            SELECT -size, number FROM survey_items
            WHERE survey_id = :survey AND category = :category AND number = :after))"""
    inside = "" if place is None else _INSIDE
    rows = conn.execute(
        f"""
        SELECT number, item FROM survey_items
        WHERE survey_id = :survey AND category = :category AND {cursor} {inside}
        ORDER BY {order} LIMIT :limit
        """,
        which,
    )
    return [_listed(row) for row in rows]


def items_by_number(
    conn: Connection, survey_id: int, category: str, numbers: list[int]
) -> list[ListedItem]:
    """Chosen items of a listing, in the order asked for; those that are not in it are missing."""
    rows = conn.execute(
        """
        SELECT i.number, i.item FROM json_each(?) wanted
        JOIN survey_items i ON i.survey_id = ? AND i.category = ? AND i.number = wanted.value
        ORDER BY wanted.key
        """,
        (str(numbers), survey_id, category),
    )
    return [_listed(row) for row in rows]


def order(
    conn: Connection, survey_id: int, category: str, place: str | None, folder: str
) -> ListingOrder:
    """All of a listing, or of what lies below a place's folder, largest first."""
    rows = conn.execute(
        f"""
        SELECT number, size, proposed, coalesce(json_extract(item, '$.mount'), '')
        FROM survey_items
        WHERE survey_id = :survey AND category = :category {"" if place is None else _INSIDE}
        ORDER BY size DESC, number
        """,
        {
            "survey": survey_id,
            "category": category,
            "place": place,
            "folder": f"{folder}/" if folder else "",
        },
    ).fetchall()
    mounts: dict[str, int] = {}
    return ListingOrder(
        on=tuple(mounts.setdefault(row[3], len(mounts)) for row in rows),
        mounts=tuple(mounts),
        numbers=tuple(row[0] for row in rows),
        sizes=tuple(row[1] for row in rows),
        proposed=tuple(bool(row[2]) for row in rows),
    )


def folder_sums(
    conn: Connection, survey_id: int, category: str, place: str | None, folder: str
) -> list[FolderSum]:
    """What each folder holds in the next level below a folder, largest first; without a place,
    what each place holds."""
    rows = conn.execute(
        """
        WITH listed AS (
            SELECT json_extract(item, '$.place') AS place,
                   substr(json_extract(item, '$.path'), length(:below) + 1) AS rest,
                   substr(json_extract(item, '$.path'), 1, length(:below)) = :below AS inside,
                   size, proposed
            FROM survey_items WHERE survey_id = :survey AND category = :category)
        SELECT place, iif(:place IS NULL OR instr(rest, '/') = 0, '',
                          substr(rest, 1, instr(rest, '/') - 1)) AS folder,
               count(*), cast(total(size) AS INTEGER), sum(proposed),
               cast(total(size * proposed) AS INTEGER)
        FROM listed WHERE :place IS NULL OR (place = :place AND inside)
        GROUP BY place, folder ORDER BY total(size) DESC, folder
        """,
        {
            "survey": survey_id,
            "category": category,
            "place": place,
            "below": f"{folder}/" if folder else "",
        },
    )
    return [
        FolderSum(
            place=row[0],
            folder=f"{folder}/{row[1]}".strip("/") if row[1] else folder,
            total=Tally(count=row[2], size=row[3]),
            proposed=Tally(count=row[4], size=row[5]),
        )
        for row in rows
    ]


def proposed(conn: Connection, survey_id: int, category: str) -> dict[int, int]:
    """The sizes of all proposed items, by number."""
    rows = conn.execute(
        "SELECT number, size FROM survey_items WHERE survey_id = ? AND category = ? AND proposed",
        (survey_id, category),
    )
    return {row[0]: row[1] for row in rows}


def sizes(conn: Connection, survey_id: int, category: str, numbers: list[int]) -> dict[int, int]:
    """The sizes of chosen items, by number; numbers that are not in the listing are missing."""
    rows = conn.execute(
        """
        SELECT i.number, i.size FROM json_each(?) wanted
        JOIN survey_items i ON i.survey_id = ? AND i.category = ? AND i.number = wanted.value
        """,
        (str(numbers), survey_id, category),
    )
    return {row[0]: row[1] for row in rows}
