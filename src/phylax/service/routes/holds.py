"""What is held on machines, and can be put back."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response

from phylax.core.hold.holds import HeldItem, Hold
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.paging import After, Limit, link_next
from phylax.service.problems import documented
from phylax.service.routes.lookup import find_hold, find_machine
from phylax.store.runs import holds

router = APIRouter(tags=["hold"])
_MOST = 200


@router.get("/machines/{machine}/holds", responses=documented(404))
def list_holds(
    machine: str,
    context: TheContext,
    actor: Signed,
    also_ended: Annotated[
        bool, Query(description="Include batches of which nothing is held any more")
    ] = False,
) -> list[Hold]:
    """What a machine holds, newest first; at most 200."""
    with context.db.read() as conn:
        machine_id = find_machine(conn, machine).id
        return holds.of_machine(conn, machine_id, also_ended=also_ended, limit=_MOST)


@router.get("/holds/{hold_id}", responses=documented(404))
def get_hold(hold_id: int, context: TheContext, actor: Signed) -> Hold:
    with context.db.read() as conn:
        return find_hold(conn, hold_id)


@router.get("/holds/{hold_id}/items", responses=documented(404))
def list_held_items(
    hold_id: int,
    context: TheContext,
    actor: Signed,
    request: Request,
    response: Response,
    words: Annotated[str, Query(max_length=200, description="Part of the path")] = "",
    after: After = 0,
    limit: Limit = 100,
) -> list[HeldItem]:
    """The things of a hold with what became of each, by number."""
    with context.db.read() as conn:
        find_hold(conn, hold_id)
        items = holds.items(conn, hold_id, words=words.strip(), after=after, limit=limit + 1)
    shown = items[:limit]
    if len(items) > limit:
        link_next(request, response, after=shown[-1].number)
    return shown
