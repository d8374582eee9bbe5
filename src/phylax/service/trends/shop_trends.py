"""Trends over the whole shop, from sums that are kept up: no history is walked for them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, timedelta
from sqlite3 import Connection

from phylax.core.catalogue import catalogue
from phylax.core.ground.values import from_seconds
from phylax.core.retention import Scope
from phylax.core.trends import Outlook
from phylax.core.trends.shop import (
    COMPARED_WEEKS,
    WEEKS,
    CategorySum,
    ChangeEffect,
    Effect,
    ShopTrends,
    VolumeProspect,
    WeekFreed,
    effect,
    sum_categories,
)
from phylax.store.clients import shop
from phylax.store.retention import changes
from phylax.store.retention.changes import RoutineChange, RuleChange, RunsSum
from phylax.store.trends import outlooks
from phylax.store.trends.outlooks import WeekSum, week_of
from phylax.store.trends.readings import DAY

_AHEAD = 90 * DAY
_MOST = 300
_CHANGES = 12
_CHANGES_SINCE = 182 * DAY


def shop_trends(conn: Connection, *, at: int) -> ShopTrends:
    sums = outlooks.weeks_of_shop(conn, at - WEEKS * 7 * DAY)
    return ShopTrends(
        crossing=prospects(conn, outlooks.crossing_before(conn, at + _AHEAD, _MOST)),
        over=prospects(conn, outlooks.over_now(conn, _MOST)),
        weeks=tuple(_weeks(sums, at)),
        costliest=sum_categories(_category_sum(week_sum) for week_sum in sums),
        advised=outlooks.count_verdicts(conn),
        changes=tuple(_changes(conn, at)),
    )


def prospects(conn: Connection, likely_outlooks: Iterable[Outlook]) -> tuple[VolumeProspect, ...]:
    """Outlooks with whose volumes they are of, in the same order."""
    likely_outlooks = list(likely_outlooks)
    ids = sorted({outlook.machine_id for outlook in likely_outlooks})
    machines = {machine.id: machine for machine in shop.machines_by_id(conn, ids)}
    listed = []
    for outlook in likely_outlooks:
        machine = machines[outlook.machine_id]
        volume = next((v for v in machine.volumes if v.id == outlook.volume_id), None)
        if volume is not None:
            listed.append(
                VolumeProspect(
                    machine_id=machine.id,
                    machine_tag=machine.tag,
                    client_name=machine.client_name,
                    mount=outlook.mount,
                    capacity=volume.capacity,
                    free=volume.free,
                    threshold_percent=outlook.threshold_percent,
                    over=outlook.over,
                    fill_rate=outlook.fill_rate,
                    crosses=outlook.crosses,
                    full=outlook.full,
                    advice=outlook.advice,
                )
            )
    return tuple(listed)


def _category_sum(week_sum: WeekSum) -> CategorySum:
    name = (
        catalogue()[week_sum.category].name
        if week_sum.category in catalogue()
        else week_sum.category
    )
    return CategorySum(
        category=week_sum.category, name=name, size=week_sum.size, items=week_sum.items
    )


def _weeks(sums: list[WeekSum], at: int) -> Iterable[WeekFreed]:
    """Every week of the span, also those in which nothing was freed."""
    by_week: dict[int, list[WeekSum]] = {}
    for week_sum in sums:
        by_week.setdefault(week_sum.week, []).append(week_sum)
    for week in range(week_of(at) - 7 * (WEEKS - 1), week_of(at) + 1, 7):
        week_sums = by_week.get(week, [])
        yield WeekFreed(
            monday=date(1970, 1, 1) + timedelta(days=week),
            size=sum(week_sum.size for week_sum in week_sums),
            by_category=sum_categories(
                _category_sum(week_sum) for week_sum in week_sums if week_sum.size
            ),
        )


# --- before and after ------------------------------------------------------------------------


def _changes(conn: Connection, at: int) -> list[ChangeEffect]:
    since = at - _CHANGES_SINCE
    effects = [_of_rule(conn, change, at) for change in changes.rule_changes(conn, since, _CHANGES)]
    effects += [
        _of_routine(conn, change) for change in changes.routine_changes(conn, since, _CHANGES)
    ]
    return sorted(effects, key=lambda effect: effect.at, reverse=True)[:_CHANGES]


def _of_rule(conn: Connection, change: RuleChange, at: int) -> ChangeEffect:
    """What its category came to in the whole weeks before the change, and in those after it."""
    span = COMPARED_WEEKS * 7 * DAY
    begin, end = change.at - span, min(change.at + 7 * DAY + span, at)
    if change.scope is Scope.SHOP:
        sums = outlooks.weeks_of_shop(conn, begin)
        about = "the shop"
    else:
        about, machine_ids = _whose(conn, change)
        sums = outlooks.weeks_of_machines(conn, machine_ids, begin, end)
    sums = [week_sum for week_sum in sums if week_sum.category == change.category]
    week, last = week_of(change.at), week_of(end)
    return ChangeEffect(
        what="rule",
        at=from_seconds(change.at),
        who=change.who,
        name=catalogue()[change.category].name,
        about=about,
        was=change.before,
        now=change.after,
        before=_sum(week_sum for week_sum in sums if week_sum.week < week),
        after=_sum(week_sum for week_sum in sums if week < week_sum.week < last),
    )


def _whose(conn: Connection, change: RuleChange) -> tuple[str, list[int]]:
    if change.scope is Scope.MACHINE:
        machine = shop.machine(conn, change.subject_id)
        return (machine.tag if machine else "a machine", [change.subject_id])
    client = shop.client(conn, change.subject_id)
    ids = [
        described.id
        for described in shop.described(conn)
        if described.client_id == change.subject_id
    ]
    return (client.name if client else "a client", ids)


def _sum(sums: Iterable[WeekSum]) -> Effect:
    sums = list(sums)
    weeks = len({week_sum.week for week_sum in sums})
    return effect(
        7 * weeks, sum(week_sum.runs for week_sum in sums), sum(week_sum.size for week_sum in sums)
    )


def _of_routine(conn: Connection, change: RoutineChange) -> ChangeEffect:
    return ChangeEffect(
        what="routine",
        at=from_seconds(change.at),
        who=change.who,
        name=change.name,
        about=f"version {change.version}",
        before=_of_runs(changes.runs_of_version(conn, change.routine_id, change.version - 1)),
        after=_of_runs(changes.runs_of_version(conn, change.routine_id, change.version)),
    )


def _of_runs(sums: RunsSum) -> Effect:
    if not sums.runs:
        return Effect(days=0)
    return effect((sums.last_at - sums.first_at) // DAY, sums.runs, sums.freed).model_copy(
        update={
            "seconds_each": sums.worked // sums.runs,
            "partly_percent": round(100 * sums.partly / sums.runs),
        }
    )
