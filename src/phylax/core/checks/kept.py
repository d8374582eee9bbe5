"""Checks as the shop keeps them: the newest of each volume and disk, and what is settled."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import Field

from phylax.core.checks.findings import Checked, Severity
from phylax.core.checks.kind import kinds
from phylax.core.ground.values import Demand, Moment, Value


class SettleFindings(Demand):
    """Somebody has dealt with what a check found."""

    comment: Annotated[
        str, Field(min_length=1, max_length=400, description="What was done about it")
    ]


class StoredCheck(Value):
    """What a check came to, and what somebody did about it."""

    id: int
    machine_id: int
    run_id: int
    checked: Checked
    settled_at: Moment | None = None
    settled_by: str = ""
    settled_comment: str = ""

    @property
    def is_open(self) -> bool:
        """Whether its findings are still to be dealt with."""
        return any(f.needs_somebody for f in self.checked.findings) and self.settled_at is None


class OpenFindings(Value):
    """Findings of one check that nobody has dealt with: what attention looks at."""

    check: str
    mode: str = ""
    of: str
    severity: Severity
    what: str
    evidence: str
    more: int
    since: Moment
    run_id: int


def uncovered(kept: Sequence[StoredCheck]) -> list[StoredCheck]:
    """Without what a later check has covered: whatever was looked at in the widest way counts for
    all ways before it."""
    widest: dict[tuple[int, str, str], StoredCheck] = {}
    for check in kept:
        kind = kinds().get(check.checked.check)
        if kind is not None and kind.modes and check.checked.mode == list(kind.modes)[-1]:
            widest[check.machine_id, check.checked.check, check.checked.target] = check
    return [
        check
        for check in kept
        if (wide := widest.get((check.machine_id, check.checked.check, check.checked.target)))
        is None
        or wide.checked.mode == check.checked.mode
        or wide.checked.started_at < check.checked.ended_at
    ]


def open_findings(kept: StoredCheck) -> OpenFindings | None:
    """What is to be dealt with of a check, by its worst finding; None: nothing."""
    if not kept.is_open:
        return None
    order = list(Severity)
    findings = [finding for finding in kept.checked.findings if finding.needs_somebody]
    worst = max(findings, key=lambda finding: order.index(finding.severity))
    return OpenFindings(
        check=kept.checked.check,
        mode=kept.checked.mode,
        of=kept.checked.target,
        severity=worst.severity,
        what=worst.what,
        evidence=worst.evidence,
        more=len(findings) + kept.checked.unlisted - 1,
        since=kept.checked.ended_at,
        run_id=kept.run_id,
    )
