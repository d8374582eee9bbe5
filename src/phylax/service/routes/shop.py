"""The shop itself, what it needs today, and the catalogue."""

from __future__ import annotations

from datetime import timedelta

from fastapi import APIRouter, Request, Response

from phylax.core.attention import in_order
from phylax.core.attention.today import Today, in_a_sentence
from phylax.core.catalogue import Category, catalogue
from phylax.core.clients.shop import Shop, ShopEdit
from phylax.core.ground.events import EventKind
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.service.backups.making import what_is_wrong
from phylax.service.context.context import TheContext, the_shop
from phylax.service.http.auth import Owner, Signed
from phylax.service.http.changes import TheChange, check_match, with_etag
from phylax.service.problems import documented
from phylax.service.scheduling.timetable import place_all
from phylax.store.attention import attention
from phylax.store.clients import shop
from phylax.store.runs import runs
from phylax.store.scheduling import rounds

router = APIRouter(tags=["shop"])
_MOST = 100
"""So many runs are shown at once."""


@router.get("/shop")
def get_shop(context: TheContext, actor: Signed, response: Response) -> Shop:
    with context.db.read() as conn:
        current = the_shop(conn)
    with_etag(current, response)
    return current


@router.put("/shop", responses=documented(403, 412, 428))
def change_shop(
    edit: ShopEdit, change: TheChange, owner: Owner, request: Request, response: Response
) -> Shop:
    with change.context.db.write() as conn:
        before = the_shop(conn)
        check_match(request, before, shop.last_change(conn, "shop", 1))
        shop.change_shop(conn, edit, who=change.who, at=change.now)
        after = the_shop(conn)
        if before.zone != after.zone:
            place_all(conn, at=change.now)
        change.audit(conn, "change shop", before.name, before, after)
        change.tell(conn, EventKind.SHOP)
    with_etag(after, response)
    return after


@router.get("/catalogue")
def get_catalogue(actor: Signed) -> list[Category]:
    """Every category of files that can be let go."""
    return list(catalogue().values())


@router.get("/today")
def get_today(context: TheContext, actor: Signed) -> Today:
    """What needs a person, what runs, what comes, and what was done since yesterday."""
    now = context.now()
    with context.db.read() as conn:
        current = the_shop(conn)
        items = attention.all_open(conn, at=now)
        needs_attention = in_order(item for item in items if item.needs_somebody)
        running = runs.under_way(conn, limit=_MOST)
        waiting = runs.waiting(conn, limit=_MOST)
        coming = rounds.next_ones(conn, limit=8)
        local = from_seconds(now).astimezone(current.clock)
        yesterday = local.replace(hour=0, minute=0, second=0) - timedelta(days=1)
        since = to_seconds(yesterday)
        done = runs.ended_since(conn, since, limit=200)
        shop_needs = what_is_wrong(conn, now)
    return Today(
        sentence=in_a_sentence(needs_attention, coming, local),
        shop_needs=shop_needs,
        needs_attention=tuple(needs_attention),
        running=tuple(running),
        waiting=tuple(waiting),
        next_rounds=tuple(coming),
        done=tuple(done),
        freed=sum(r.freed or 0 for r in done if r.work == "clean"),
        since=from_seconds(since),
    )
