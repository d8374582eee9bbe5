"""Causes for attention that come of checks: a disk that fails, and what else was open_findings."""

from __future__ import annotations

from collections.abc import Iterator

from phylax.core.attention.findings import Cause, Finding, NextStep, Standing, finding
from phylax.core.checks.findings import Severity
from phylax.core.checks.kept import OpenFindings
from phylax.core.quantities import count


def failing(standing: Standing) -> Iterator[Finding]:
    """Data is about to be lost: nothing is more urgent."""
    for open_findings in standing.findings:
        if open_findings.severity is Severity.FAILING:
            yield _of(standing, open_findings, Cause.FAILING, urgency=98)


def check_findings(standing: Standing) -> Iterator[Finding]:
    """A check found something that nobody has seen to."""
    for open_findings in standing.findings:
        if open_findings.severity is not Severity.FAILING:
            yield _of(standing, open_findings, Cause.CHECK_FINDINGS, urgency=64)


def _of(standing: Standing, open_findings: OpenFindings, cause: Cause, *, urgency: int) -> Finding:
    of = (
        open_findings.of
        if not open_findings.of or open_findings.of.endswith(":")
        else f"{open_findings.of}:"
    )
    more = f"; and {count(open_findings.more, 'finding')} more" if open_findings.more else ""
    return finding(
        standing,
        cause=cause,
        subject=f"{open_findings.check} {open_findings.of}".strip(),
        urgency=urgency,
        grade=0,
        since=open_findings.since,
        reason=f"{of} {open_findings.what}".strip(),
        evidence=f"{open_findings.evidence}{more}",
        next_step=NextStep.SEE_CHECKS,
        run_id=open_findings.run_id,
    )
