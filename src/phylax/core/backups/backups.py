"""Backups of the shop's file: which are kept, and when the newest one is too old."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import datetime, timedelta
from typing import Annotated
from zoneinfo import ZoneInfo

from pydantic import Field

from phylax.core.ground.quantities import count
from phylax.core.ground.values import Demand, Moment, Value

TOO_OLD = timedelta(hours=50)
"""A backup a day, with room for a night on which the service's machine was off."""


class BackupPlanEdit(Demand):
    """Where backups go, and how many are kept."""

    place: Annotated[str, Field(max_length=1000, examples=["/mnt/safe/phylax"])] = Field(
        "", description="A folder, best on another disk; empty: beside the shop's file"
    )
    hour: Annotated[int, Field(ge=0, le=23, description="Of the shop's day, from which on")] = 2
    daily: Annotated[int, Field(ge=1, le=366)] = 14
    weekly: Annotated[int, Field(ge=0, le=104)] = 13
    monthly: Annotated[int, Field(ge=0, le=120)] = 12
    public_key: Annotated[str, Field(pattern="^(age1[0-9a-z]{58})?$")] = Field(
        "", description="Of age (X25519), to which they are encrypted; empty: they are not"
    )


class BackupPlan(Value):
    place: str = ""
    hour: int = 2
    daily: int = 14
    weekly: int = 13
    monthly: int = 12
    public_key: str = ""
    version: int = 1


class Backup(Value):
    """One copy of the shop's file, or that none could be made."""

    id: int
    at: Moment
    name: str = Field(description="Of its file, within the place")
    place: str
    size: int
    seconds: float
    entries: int = Field(description="Of the record, all of which follow each other")
    head: str = Field(description="Digest of the record's newest entry")
    why: str = Field("", description="Why it is no good; empty: it was opened and verified")
    gone_at: Moment | None = Field(None, description="When it gave way to newer ones")
    made_by: str = Field("", description="Who made it by hand; empty: the plan")


class BackupState(Value):
    """How the shop is backed up."""

    plan: BackupPlan
    newest_good: Backup | None
    wrong: str = Field("", description="What somebody has to see to; empty: nothing")
    beside: bool = Field(description="They lie on the disk of the shop's file itself")


def kept(
    times: Iterable[datetime],
    plan: BackupPlan,
    zone: ZoneInfo,
    *,
    by_hand: Collection[datetime] = (),
) -> set[datetime]:
    """Which backups are kept: the newest of each of the last days, weeks and months that have one.

    The newest of all is always among them. What somebody made by hand stays as long as days do:
    it was made for a reason, and gives way to no other of the same day.
    """
    newest_first = sorted(times, reverse=True)
    chosen = set(newest_first[:1])
    for most, part_of in (
        (plan.daily, lambda at: at.date()),
        (plan.weekly, lambda at: at.isocalendar()[:2]),
        (plan.monthly, lambda at: (at.year, at.month)),
    ):
        parts: set[object] = set()
        for at in newest_first:
            part = part_of(at.astimezone(zone))
            if part in parts:
                continue
            if len(parts) == most:
                break
            parts.add(part)
            chosen.add(at)
    if newest_first:
        chosen |= {at for at in by_hand if newest_first[0] - at < timedelta(days=plan.daily)}
    return chosen


def is_due(last: datetime | None, now: datetime, plan: BackupPlan, zone: ZoneInfo) -> bool:
    """Whether a backup is to be made: one a day, from an hour on; at once where the last is old."""
    if last is None or not timedelta() <= now - last < timedelta(hours=26):
        return True
    here = now.astimezone(zone)
    return here.hour >= plan.hour and last.astimezone(zone).date() < here.date()


def wrong(newest_good: datetime | None, last_failure: str, now: datetime, opened: datetime) -> str:
    """What somebody has to see to; empty where all is well. `opened`: when the shop was."""
    if newest_good is None:
        if now - opened < TOO_OLD and not last_failure:
            return ""
        return f"There is no backup{_because(last_failure)}."
    if now - newest_good > TOO_OLD:
        days = (now - newest_good) // timedelta(days=1)
        return f"The last backup is {days} days old{_because(last_failure)}."
    if last_failure:
        # a record that was altered is found here first, and nobody should wait two days to hear it
        hours = (now - newest_good) // timedelta(hours=1)
        return (
            f"The last try to make a backup failed: {last_failure}. The last good one is "
            f"{count(hours, 'hour')} old."
        )
    return ""


def _because(why: str) -> str:
    return f": {why}" if why else ""
