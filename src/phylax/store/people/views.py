"""Views that people keep of the console's pages."""

from __future__ import annotations

from sqlite3 import Connection

from phylax.core.people.views import NewView, View, ViewPage


def of_person(conn: Connection, person_id: int, page: ViewPage | None = None) -> list[View]:
    """A person's views by name, of one page or all."""
    rows = conn.execute(
        """
        SELECT id, page, name, query FROM views
        WHERE person_id = ?1 AND (?2 IS NULL OR page = ?2)
        ORDER BY name COLLATE NOCASE, id
        """,
        (person_id, page),
    )
    return [View.model_validate(dict(row)) for row in rows]


def keep(conn: Connection, person_id: int, new: NewView) -> View:
    """Keep a view; one of the same name is replaced."""
    row = conn.execute(
        """
        INSERT INTO views (person_id, page, name, query) VALUES (?, ?, ?, ?)
        ON CONFLICT (person_id, page, name) DO UPDATE SET query = excluded.query
        RETURNING id, page, name, query
        """,
        (person_id, new.page, new.name, new.query),
    ).fetchone()
    return View.model_validate(dict(row))


def drop(conn: Connection, person_id: int, view_id: int) -> bool:
    """Whether this person had that view."""
    cursor = conn.execute("DELETE FROM views WHERE id = ? AND person_id = ?", (view_id, person_id))
    return cursor.rowcount == 1
