"""Updates that a machine lacks, and since when the shop knows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field

from phylax.core.checks.findings import Finding, Severity
from phylax.core.ground.quantities import count
from phylax.core.ground.text import Text
from phylax.core.ground.values import BytesTold, Moment, Value

MOST_UPDATES = 3000


class Update(Value):
    """A newer version that could be installed."""

    name: Text
    now: Text = Field("", description="The version that is installed; empty: it is new")
    version: Text
    origin: Text = Field("", description="Who offers it")
    security: bool = False
    size: BytesTold | None = Field(None, description="Bytes to fetch, if known")
    restart: bool = Field(False, description="It counts only after a restart")
    held_back: Text = Field("", description="Why it is not installed unattended")


def of_missing(updates: Sequence[Update]) -> list[Finding]:
    """A word about updates that are missing: how long one may be is the shop's to say."""
    if not updates:
        return []
    security = sum(update.security for update in updates)
    what = f"{count(len(updates), 'update')} missing, {security} for security"
    named = ", ".join(update.name for update in updates[:5])
    return [Finding(severity=Severity.NOTE, what=what, evidence=named[:500])]


class UpdatesListed(Value):
    kind: Literal["updates"] = "updates"
    taken_at: Moment
    unread: Text = Field("", description="Why nobody could look")
    updates: Annotated[tuple[Update, ...], Field(max_length=MOST_UPDATES)] = ()
    restart_waits: Text = Field("", description="Why a restart is due already; empty: none is")


class MissingUpdate(Value):
    """An update that a machine lacks, and since when that is known."""

    update: Update
    since: Moment


class Overdue(Value):
    """The oldest security update that a machine has lacked for too long."""

    update: Update
    since: Moment
    others: int = Field(ge=0, description="Further security updates that it lacks")
