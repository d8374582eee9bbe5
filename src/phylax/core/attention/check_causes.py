"""Causes for attention that come of checks: a disk that fails, and what else was open_findings."""

from __future__ import annotations

from collections.abc import Iterator

from phylax.core.attention.findings import Cause, Finding, MachineCondition, NextStep, finding
from phylax.core.checks.findings import Severity
from phylax.core.checks.kept import OpenFindings
from phylax.core.ground.quantities import count, headed


def failing(standing: MachineCondition) -> Iterator[Finding]:
    """Data is about to be lost: nothing is more urgent."""
    for open_findings in standing.findings:
        if open_findings.severity is Severity.FAILING:
            yield _of(standing, open_findings, Cause.FAILING, urgency=98)


def check_findings(standing: MachineCondition) -> Iterator[Finding]:
    """A check found something that nobody has dealt with."""
    for open_findings in standing.findings:
        if open_findings.severity is not Severity.FAILING and open_findings.check != "malware":
            yield _of(standing, open_findings, Cause.CHECK_FINDINGS, urgency=64)


def malware(standing: MachineCondition) -> Iterator[Finding]:
    """Somebody else's program may be at work on it."""
    for open_findings in standing.findings:
        if open_findings.severity is not Severity.FAILING and open_findings.check == "malware":
            yield _of(standing, open_findings, Cause.MALWARE, urgency=93)


def updates_overdue(standing: MachineCondition) -> Iterator[Finding]:
    """A security update has been missing for longer than the shop allows."""
    overdue = standing.overdue
    if overdue is None:
        return
    others = f"; and {count(overdue.others, 'other')} for security" if overdue.others else ""
    update = overdue.update
    yield finding(
        standing,
        cause=Cause.UPDATES_OVERDUE,
        urgency=66,
        grade=(standing.now - overdue.since).days,
        since=overdue.since,
        reason=f"Lacks security updates, the oldest for {(standing.now - overdue.since).days} days",
        evidence=f"{update.name} {update.now}, {update.version} is out{others}",
        next_step=NextStep.SEE_UPDATES,
    )


def not_back(standing: MachineCondition) -> Iterator[Finding]:
    """A machine was restarted, and nobody has heard of it since."""
    if standing.gone_since is None:
        return
    yield finding(
        standing,
        cause=Cause.NOT_BACK,
        urgency=95,
        since=standing.gone_since,
        reason="Has not come back from its restart",
        evidence="It may wait for somebody: a passphrase, a question, a switch",
        next_step=NextStep.ASK_CLIENT,
        run_id=standing.gone_run_id,
    )


def _of(
    standing: MachineCondition, open_findings: OpenFindings, cause: Cause, *, urgency: int
) -> Finding:
    of = headed(open_findings.of)
    more = f"; and {count(open_findings.more, 'finding')} more" if open_findings.more else ""
    return finding(
        standing,
        cause=cause,
        subject=" ".join(
            part for part in (open_findings.check, open_findings.mode, open_findings.of) if part
        ),
        urgency=urgency,
        grade=0,
        since=open_findings.since,
        reason=f"{of} {open_findings.what}".strip(),
        evidence=f"{open_findings.evidence}{more}",
        next_step=NextStep.SEE_CHECKS,
        run_id=open_findings.run_id,
    )
