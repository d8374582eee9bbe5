"""Trends: over the whole shop, and readings as they are, for other programs."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Literal

from fastapi import APIRouter, Query, Request
from fastapi.responses import StreamingResponse

from phylax.core.ground.values import Moment, from_seconds, to_seconds
from phylax.core.trends import Reading, TrendPoint
from phylax.core.trends.shop import ShopTrends, VolumeProspect
from phylax.service.context.context import TheContext
from phylax.service.http.auth import Signed
from phylax.service.http.csv import CSV, as_csv, wants_csv
from phylax.service.problems import documented, invalid
from phylax.service.routes.lookup import find_machine, find_volume
from phylax.service.trends.shop_trends import prospects, shop_trends
from phylax.store.trends import outlooks, readings

router = APIRouter(tags=["trends"])


@router.get("/trends")
def get_trends(context: TheContext, actor: Signed) -> ShopTrends:
    """Which volumes will be over, what was freed by week, what costs most, what changes brought."""
    with context.db.read() as conn:
        return shop_trends(conn, at=context.now())


@router.get("/trends/volumes", response_model=list[VolumeProspect], responses=CSV)
def list_prospects(
    context: TheContext,
    actor: Signed,
    request: Request,
    days: Annotated[int, Query(ge=1, le=730, description="That will be over within so many")] = 730,
    limit: Annotated[int, Query(ge=1, le=20_000)] = 1000,
) -> list[VolumeProspect] | StreamingResponse:
    """Volumes that are over their threshold or will be, soonest first; as JSON, or text/csv."""
    until = context.now() + days * readings.DAY
    with context.db.read() as conn:
        soon = outlooks.over_now(conn, limit) + outlooks.crossing_before(conn, until, limit)
        listed = list(prospects(conn, soon[:limit]))
    if not wants_csv(request):
        return listed
    return as_csv(
        ("machine", "client", "volume", "capacity", "free", "threshold_percent", "fills_a_day",
         "soonest", "likely", "latest", "full", "advice"),
        (
            (
                prospect.machine_tag, prospect.client_name, prospect.mount,
                prospect.capacity, prospect.free, prospect.threshold_percent,
                prospect.fill_rate and prospect.fill_rate.likely,
                *(
                    (prospect.crosses.soonest, prospect.crosses.likely, prospect.crosses.latest)
                    if prospect.crosses else (None, None, None)
                ),
                prospect.full and prospect.full.likely, prospect.advice and prospect.advice.text,
            )
            for prospect in listed
        ),
    )  # fmt: skip


@router.get(
    "/machines/{machine}/readings",
    response_model=list[TrendPoint],
    responses=documented(404, 422) | CSV,
)
def list_readings(
    machine: str,
    context: TheContext,
    actor: Signed,
    request: Request,
    mount: Annotated[str | None, Query(description="The volume; by default the fullest")] = None,
    since: Moment | None = None,
    until: Moment | None = None,
    by: Literal["hour", "day"] = "day",
) -> list[TrendPoint] | StreamingResponse:
    """Every reading of a span, as it came (90 days back) or a line a day; as JSON, or text/csv."""
    end = until or context.clock()
    begin = since or end - timedelta(days=30 if by == "hour" else 400)
    if begin >= end:
        raise invalid("/since", "the span must begin before it ends")
    read = readings.hourly if by == "hour" else readings.daily
    with context.db.read() as conn:
        volume = find_volume(find_machine(conn, machine), mount)
        listed = read(conn, volume.id, to_seconds(begin), to_seconds(end))
    if not wants_csv(request):
        return [point_of(reading) for reading in listed]
    return as_csv(
        ("at", "capacity", "free", "lowest", "highest"),
        (
            (from_seconds(reading.at), reading.capacity, reading.free, reading.low, reading.high)
            for reading in listed
        ),
    )


def point_of(reading: Reading) -> TrendPoint:
    return TrendPoint(
        at=from_seconds(reading.at),
        capacity=reading.capacity,
        free=reading.free,
        low=reading.low,
        high=reading.high,
    )
