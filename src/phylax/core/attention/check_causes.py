"""Causes for attention that come of checks: a disk that fails, and what else was found."""

from __future__ import annotations

from collections.abc import Iterator

from phylax.core.attention.findings import Cause, Finding, NextStep, Standing, finding
from phylax.core.checks.findings import Severity
from phylax.core.checks.kept import OpenFindings
from phylax.core.quantities import count


def failing(standing: Standing) -> Iterator[Finding]:
    """Data is about to be lost: nothing is more urgent."""
    for found in standing.findings:
        if found.severity is Severity.FAILING:
            yield _of(standing, found, Cause.FAILING, urgency=98)


def check_findings(standing: Standing) -> Iterator[Finding]:
    """A check found something that nobody has seen to."""
    for found in standing.findings:
        if found.severity is not Severity.FAILING:
            yield _of(standing, found, Cause.CHECK_FINDINGS, urgency=64)


def _of(standing: Standing, found: OpenFindings, cause: Cause, *, urgency: int) -> Finding:
    of = found.of if not found.of or found.of.endswith(":") else f"{found.of}:"
    more = f"; and {count(found.more, 'finding')} more" if found.more else ""
    return finding(
        standing,
        cause=cause,
        subject=f"{found.check} {found.of}".strip(),
        urgency=urgency,
        grade=0,
        since=found.since,
        reason=f"{of} {found.what}".strip(),
        evidence=f"{found.evidence}{more}",
        next_step=NextStep.SEE_CHECKS,
        run_id=found.run_id,
    )
