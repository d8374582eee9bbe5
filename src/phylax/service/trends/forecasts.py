"""Outlooks are made anew where something changed: a day went by, much came or went, a cleaning."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from sqlite3 import Connection
from statistics import NormalDist
from typing import NamedTuple

from phylax.core.catalogue import catalogue
from phylax.core.ground.values import from_seconds, to_seconds
from phylax.core.trends import (
    CHANCE,
    ConePoint,
    Crossing,
    Grown,
    Outlook,
    PaceChange,
    Rate,
    Reading,
    Regrowth,
    SuddenChange,
)
from phylax.core.trends.filling import Filling, Freed, Level, NotYet, filling
from phylax.core.trends.futures import Range, draws, futures
from phylax.core.trends.interval import OtherVolume, Prospect, advise
from phylax.core.trends.regrowth import Seen, grown_between, regrowth
from phylax.service.context.context import Context
from phylax.store.trends import outlooks
from phylax.store.trends.outlooks import Ground, SurveySums
from phylax.store.trends.readings import DAY

SEED = 8610
"""Of the chance in forecasts: the same readings give the same forecast."""
AT_A_TIME = 50
_TENTH = NormalDist().inv_cdf((1 + CHANCE) / 2)
_SUDDEN_SHOWN = 12
_GROWN_SHOWN = 4
_MATTERS = 0.02
_LOOKS_BACK = 400 * DAY


class Refreshed(NamedTuple):
    machine_ids: set[int]
    more: bool
    """There are more to be made."""


def refresh(context: Context, limit: int = AT_A_TIME) -> Refreshed:
    """Make so many of the outlooks that are due."""
    now = context.now()
    with context.db.read() as conn:
        volume_ids = outlooks.due(conn, limit)
        if not volume_ids:
            return Refreshed(set(), more=False)
        grounds = outlooks.grounds(conn, volume_ids)
        made = [(make(conn, ground, now), _free(ground)) for ground in grounds]
    with context.db.write() as conn:
        outlooks.put(conn, made, volume_ids)
    return Refreshed({ground.machine_id for ground in grounds}, len(volume_ids) == limit)


def _free(ground: Ground) -> int:
    return ground.days[-1].free if ground.days else 0


def make(conn: Connection, ground: Ground, now: int) -> Outlook:
    """What can be said of one volume."""
    days = [day for day in ground.days if day.at >= ground.began_at]
    threshold = ground.capacity * ground.threshold_percent / 100
    used = ground.capacity - _free(ground)
    values: dict[str, object] = {
        "volume_id": ground.volume_id,
        "machine_id": ground.machine_id,
        "mount": ground.mount,
        "made_at": from_seconds(now),
        "read_at": from_seconds(ground.read_at),
        "threshold_percent": ground.threshold_percent,
        "over": used > threshold,
        "over_since": _over_since(days, threshold),
    }
    cleanings = [Freed(at / DAY, size) for at, size in ground.cleanings if at >= ground.began_at]
    try:
        fill = filling(_levels(days), cleanings, ground.capacity, now / DAY)
    except NotYet as why:
        return Outlook.model_validate(values | {"not_yet": str(why)})
    ahead = futures(fill, draws(SEED))
    gross = _rate(fill.gross, fill.drift_error)
    values |= {
        "fill_rate": gross,
        "net": _rate(fill.drift, fill.drift_error),
        "crosses": None if used > threshold else _crossing(ahead.crossing(threshold), fill.now),
        "full": _crossing(ahead.crossing(ground.capacity), fill.now),
        "cone": tuple(
            ConePoint(
                at=_moment(fill.now + day),
                # used that is high is free that is low
                low=max(0, int(ground.capacity - high)),
                likely=max(0, int(ground.capacity - likely)),
                high=min(ground.capacity, max(0, int(ground.capacity - low))),
            )
            for day, low, likely, high in ahead.cone()
        ),
    }
    changed, sudden = _explained(conn, ground, fill, days)
    values |= {
        "changed": changed,
        "sudden": sudden,
        "advice": advise(_prospect(ground, fill, changed)),
    }
    if fill.teeth is not None:
        values["cleaned_every_days"] = round(fill.teeth.every, 1)
        values["freed_each"] = int(fill.teeth.rate * fill.teeth.every)
    return Outlook.model_validate(values)


def _over_since(days: Sequence[Reading], threshold: float) -> datetime | None:
    """Since when it is over its threshold without a day below it."""
    since = None
    for day in reversed(days):
        if day.capacity - day.low <= threshold:
            break
        since = day.at
    return None if since is None else from_seconds(since)


def _levels(days: Sequence[Reading]) -> list[Level]:
    return [Level(day.at / DAY, float(day.capacity - day.free)) for day in days]


def _moment(days: float) -> datetime:
    return from_seconds(int(days * DAY))


def _rate(likely: float, error: float) -> Rate:
    doubt = _TENTH * error
    return Rate(low=int(likely - doubt), likely=int(likely), high=int(likely + doubt))


def _crossing(crossing: Range, now: float) -> Crossing:
    times = [None if day == float("inf") else _moment(now + day) for day in crossing]
    return Crossing.model_validate(dict(zip(("soonest", "likely", "latest"), times, strict=True)))


def _explained(
    conn: Connection, ground: Ground, fill: Filling, days: Sequence[Reading]
) -> tuple[PaceChange | None, tuple[SuddenChange, ...]]:
    """Sudden changes and a change of pace, each with the categories that grew about it."""
    changed = _pace_change(ground, fill)
    if not fill.sudden and changed is None:
        return None, ()
    looks = outlooks.looks(conn, ground.machine_id, ground.read_at - _LOOKS_BACK)
    if changed is not None:
        since = to_seconds(changed.since)
        # what a cleaning took and what came back since is no part of it
        calm = [look for look in looks if look.second] or looks
        newest = looks[-1].at if looks else since
        grown, looked = _grown(calm, since, newest, up=True)
        if not looked:
            # when the pace changed is known to the week only
            grown, looked = _grown(calm, since + 7 * DAY, newest, up=True)
        changed = changed.model_copy(update={"grown": grown, "looked": looked})
    before = {day.at / DAY: earlier.at for earlier, day in pairwise(days)}
    sudden = []
    for jump in fill.sudden[-_SUDDEN_SHOWN:]:
        at = int(jump.at * DAY)
        grown, looked = _grown(looks, before.get(jump.at, at), at, up=jump.size > 0)
        change = SuddenChange(at=from_seconds(at), size=int(jump.size), grown=grown, looked=looked)
        sudden.append(change)
    return changed, tuple(sudden)


def _pace_change(ground: Ground, fill: Filling) -> PaceChange | None:
    """Only where it matters: twice as fast as before, and a fiftieth of the volume a month."""
    before = fill.drift_before
    if before is None or fill.drift < 2 * max(before, 0.0):
        return None
    if 30 * (fill.drift - before) < _MATTERS * ground.capacity:
        return None
    return PaceChange(
        since=from_seconds(int(fill.since * DAY)), before=int(before), now=int(fill.drift)
    )


def _grown(
    looks: Sequence[SurveySums], before: int, after: int, *, up: bool
) -> tuple[tuple[Grown, ...], bool]:
    """The categories that grew (or shrank) most between the surveys around a span, if there are."""
    earlier = [look for look in looks if look.at <= before]
    later = [look for look in looks if look.at >= after] or [
        look for look in looks[-1:] if look.at > before
    ]
    if not earlier or not later:
        return (), False
    changes = grown_between(earlier[-1].holds, later[0].holds)
    with_it = [(key, size) for key, size in changes if (size > 0) == up]
    with_it.sort(key=lambda change: -abs(change[1]))
    most = with_it[:_GROWN_SHOWN]
    return tuple(Grown(category=key, name=_name(key), size=size) for key, size in most), True


def _name(category: str) -> str:
    return catalogue()[category].name if category in catalogue() else category


def _prospect(ground: Ground, fill: Filling, changed: PaceChange | None) -> Prospect:
    return Prospect(
        mount=ground.mount,
        capacity=ground.capacity,
        threshold_percent=ground.threshold_percent,
        floor=fill.level,
        own=fill.drift,
        own_error=fill.drift_error,
        regrows=fill.teeth.rate if fill.teeth else None,
        every=fill.teeth.every if fill.teeth else None,
        can_go=ground.can_go,
        grows=_what_grows(changed, fill),
        others=tuple(OtherVolume(*other) for other in ground.others),
    )


def _what_grows(changed: PaceChange | None, fill: Filling) -> str:
    """The category that at least half of the growth since a change of pace is of."""
    if changed is None or not changed.grown:
        return ""
    most = changed.grown[0]
    days = fill.now - changed.since.timestamp() / DAY
    return most.name if most.size >= 0.5 * fill.drift * days else ""


def regrowths(conn: Connection, machine_id: int, now: int) -> list[Regrowth]:
    """How each category of a machine comes back after a cleaning, fastest first."""
    seen: dict[str, list[Seen]] = {}
    looks = outlooks.looks(conn, machine_id, now - int(timedelta(days=200).total_seconds()))
    for key in {key for look in looks for key in look.sums}:
        seen[key] = [Seen(look.at, look.sums.get(key, (0, 0))[0], look.second) for look in looks]
    per_category = (regrowth(key, _name(key), looks_at) for key, looks_at in seen.items())
    return sorted(
        (category_regrowth for category_regrowth in per_category if category_regrowth),
        key=lambda category_regrowth: -category_regrowth.rate.likely,
    )
