"""Trends over the whole shop: who will be over, what was freed, what a change brought."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from typing import Literal

from pydantic import Field

from phylax.core.ground.values import Moment, Value
from phylax.core.trends.outlook import Advice, Crossing, Rate

WEEKS = 26
COMPARED_WEEKS = 8


class VolumeProspect(Value):
    """One volume among all of the shop's."""

    machine_id: int
    machine_tag: str
    client_name: str
    mount: str
    capacity: int
    free: int
    threshold_percent: int
    over: bool
    fill_rate: Rate | None = None
    crosses: Crossing | None = None
    full: Crossing | None = None
    advice: Advice | None = None


class CategorySum(Value):
    category: str
    name: str
    size: int
    items: int = 0


class WeekFreed(Value):
    """What was freed in a week that began on a Monday."""

    monday: date
    size: int
    by_category: tuple[CategorySum, ...] = ()


class Effect(Value):
    """What cleanings came to over some time."""

    days: int = Field(description="Over so many days; 0: there is nothing to compare with")
    cleanings: int = 0
    freed: int = 0
    freed_each: int = Field(0, description="By one cleaning, on average")
    seconds_each: int | None = None
    partly_percent: int | None = Field(None, description="Of which something was left")


class ChangeEffect(Value):
    """A rule or routine that was changed, and what came of it."""

    what: Literal["rule", "routine"]
    at: Moment
    who: str
    name: str
    about: str = Field(description="For whom a rule is; of a routine the version")
    was: str = ""
    now: str = ""
    before: Effect
    after: Effect


class ShopTrends(Value):
    """All of it; volumes that will be over within 90 days, soonest first."""

    crossing: tuple[VolumeProspect, ...]
    over: tuple[VolumeProspect, ...] = Field(description="Over already")
    weeks: tuple[WeekFreed, ...]
    costliest: tuple[CategorySum, ...] = Field(
        description="What came back and was freed again, over the weeks shown, most first"
    )
    advised: dict[str, int] = Field(description="Volumes by what is advised on their interval")
    changes: tuple[ChangeEffect, ...]


def effect(days: int, cleanings: int, freed: int) -> Effect:
    each = freed // cleanings if cleanings else 0
    return Effect(days=days, cleanings=cleanings, freed=freed, freed_each=each)


def sum_categories(sums: Iterable[CategorySum]) -> tuple[CategorySum, ...]:
    """Added up by category, most first."""
    sum_of: dict[str, CategorySum] = {}
    for category_sum in sums:
        known = sum_of.get(category_sum.category)
        sum_of[category_sum.category] = (
            category_sum
            if known is None
            else category_sum.model_copy(
                update={
                    "size": category_sum.size + known.size,
                    "items": category_sum.items + known.items,
                }
            )
        )
    return tuple(
        sorted(
            sum_of.values(), key=lambda category_sum: (-category_sum.size, category_sum.category)
        )
    )
