"""One's own views of the console's pages, under a name."""

from __future__ import annotations

from fastapi import APIRouter

from phylax.core.people.views import MOST, NewView, View, ViewPage
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.changes import TheChange
from phylax.service.problems import Problem, documented, not_found
from phylax.store.people import views

router = APIRouter(prefix="/views", tags=["people"])


@router.get("")
def list_views(context: TheContext, actor: Signed, page: ViewPage | None = None) -> list[View]:
    """One's own views, by name."""
    with context.db.read() as conn:
        return views.of_person(conn, actor.person.id, page)


@router.post("", status_code=201, responses=documented(409, 422))
def keep_view(new: NewView, change: TheChange) -> View:
    """Keep the state of a page under a name; one of the same name is replaced."""
    person_id = change.actor.person.id
    with change.context.db.write() as conn:
        kept = views.of_person(conn, person_id, new.page)
        if len(kept) >= MOST and all(view.name != new.name for view in kept):
            raise Problem(409, "too-many", f"You keep {MOST} views; delete one first.")
        return views.keep(conn, person_id, new)


@router.delete("/{view_id}", status_code=204, responses=documented(404))
def drop_view(view_id: int, change: TheChange) -> None:
    with change.context.db.write() as conn:
        if not views.drop(conn, change.actor.person.id, view_id):
            raise not_found("view", view_id)
